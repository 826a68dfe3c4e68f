// Progress of background work, told by the server as it happens.
let leaving = false;

export function followJobs() {
  addEventListener("beforeunload", () => (leaving = true));
  for (const line of document.querySelectorAll("[data-job]")) follow(line);
}

function follow(line) {
  // Asking for a stop leaves the page as it is; the line says when it has stopped.
  line.querySelector("form")?.addEventListener("submit", (event) => {
    event.preventDefault();
    const form = event.target;
    fetch(form.action, { method: "POST", body: new URLSearchParams(new FormData(form)), headers: { "x-requested-by-script": "yes" } });
    line.querySelector("[data-left]").textContent = "stopping";
  });
  const source = new EventSource(`/jobs/${line.dataset.job}/events`);
  source.onmessage = (message) => {
    const job = JSON.parse(message.data);
    line.querySelector("progress").value = job.share;
    line.querySelector("[data-stage]").textContent = job.stage;
    line.querySelector("[data-left]").textContent = job.left === null ? "" : left(job.left);
    if (job.state !== "queued" && job.state !== "running") {
      source.close();
      if (line.hasAttribute("data-reloads")) settle(line);
    }
  };
}

// What is typed must not be lost: where a field was changed, the line says that
// the work is done and leaves the page as it is.
function settle(line) {
  // Somebody is on the way to another page; showing this one anew would call them back.
  if (leaving) return;
  const changed = [...document.querySelectorAll("main input, main select, main textarea")].some((field) => {
    if (field.tagName === "SELECT") return [...field.options].some((o) => o.selected !== o.defaultSelected && o.defaultSelected);
    return field.value !== field.defaultValue || (field.checked ?? false) !== (field.defaultChecked ?? false);
  });
  if (changed) line.querySelector("[data-stage]").textContent = "Done; reload the page to see it";
  else location.reload();
}

function left(seconds) {
  if (seconds < 1.5) return "about a second left";
  if (seconds < 90) return `about ${Math.round(seconds)} seconds left`;
  return `about ${Math.round(seconds / 60)} minutes left`;
}
