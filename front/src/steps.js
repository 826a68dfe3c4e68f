// An expression is tried on real rows while it is typed, and names of columns are completed.

const PAUSE = 250;

export function expression(field) {
  const form = field.closest("form");
  const tried = form.querySelector(".tried");
  const list = form.querySelector(".completions");
  const names = [...form.querySelector("template").content.querySelectorAll("span")].map((span) => span.textContent);
  let timer;
  let latest = 0;

  async function attempt() {
    const mine = ++latest;
    if (!field.value.trim()) {
      tried.replaceChildren();
      return;
    }
    const address = `${field.dataset.expression}&sql=${encodeURIComponent(field.value)}`;
    const answer = await fetch(address, { credentials: "same-origin" }).catch(() => null);
    // A later one may have been typed and answered meanwhile.
    if (mine !== latest) return;
    if (!answer?.ok) {
      tried.textContent = "It could not be tried now; it is checked when the step is added.";
      return;
    }
    const page = new DOMParser().parseFromString(await answer.text(), "text/html");
    if (mine === latest) tried.replaceChildren(...page.body.childNodes);
  }

  function word() {
    const before = field.value.slice(0, field.selectionStart);
    return /[\p{L}_][\p{L}\p{N}_.]*$/u.exec(before)?.[0] ?? "";
  }

  function complete(name) {
    const at = field.selectionStart;
    const from = at - word().length;
    const plain = /^[\p{L}_][\p{L}\p{N}_.]*$/u.test(name);
    const text = plain ? name : `"${name.replaceAll('"', '""')}"`;
    field.setRangeText(text, from, at, "end");
    list.hidden = true;
    field.focus();
    field.dispatchEvent(new Event("input"));
  }

  function offer() {
    const begun = word().toLowerCase();
    const fitting = begun.length < 2 ? [] : names.filter((n) => n.toLowerCase().includes(begun) && n.toLowerCase() !== begun);
    fitting.sort((a, b) => Number(b.toLowerCase().startsWith(begun)) - Number(a.toLowerCase().startsWith(begun)));
    list.replaceChildren(
      ...fitting.slice(0, 6).map((name, i) => {
        const item = document.createElement("li");
        const button = document.createElement("button");
        button.type = "button";
        button.className = "link";
        button.textContent = name;
        button.addEventListener("click", () => complete(name));
        item.append(button);
        if (i === 0) item.insertAdjacentHTML("beforeend", " <kbd>Tab</kbd>");
        return item;
      }),
    );
    list.hidden = fitting.length === 0;
  }

  field.addEventListener("input", () => {
    offer();
    clearTimeout(timer);
    timer = setTimeout(attempt, PAUSE);
  });
  field.addEventListener("keydown", (event) => {
    if (list.hidden) return;
    if (event.key === "Tab" && !event.shiftKey) {
      event.preventDefault();
      complete(list.querySelector("button").textContent);
    } else if (event.key === "Escape") {
      event.stopPropagation();
      list.hidden = true;
    }
  });
  if (field.value) attempt();
}
