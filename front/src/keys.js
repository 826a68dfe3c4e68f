// Keys of the whole product; nothing here is reachable by keys alone.
export function keys() {
  const dialog = document.querySelector("[data-keys]");
  document.querySelector("[data-keys-open]")?.addEventListener("click", () => dialog.showModal());
  try {
    if (localStorage.getItem("ledger") === "hidden") document.body.classList.add("ledger-hidden");
  } catch {
    // A browser may refuse storage; the ledger is then shown.
  }
  // The page to find on is there to be typed into.
  document.querySelector(".find [name=q]")?.focus();
  document.addEventListener("keydown", (event) => {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.target.closest("input, select, textarea, dialog")) return;
    const stop = document.querySelector(`[data-stop="${CSS.escape(event.key)}"]`);
    if (stop) return stop.click();
    if (event.key === "?") return dialog?.showModal();
    if (event.key === "/") {
      event.preventDefault();
      const field = document.querySelector(".find [name=q]");
      return field ? field.focus() : document.querySelector("[data-find]")?.click();
    }
    if (event.key === "l") return toggleLedger();
    if (event.key === "m") return openMeaning();
    if (event.key === "u") return document.querySelector("[data-take-back]")?.requestSubmit();
    if (event.key === "j" || event.key === "k") return moveRow(event.key === "j" ? 1 : -1);
  });
}

function toggleLedger() {
  const hidden = document.body.classList.toggle("ledger-hidden");
  try {
    localStorage.setItem("ledger", hidden ? "hidden" : "shown");
  } catch {
    // Not remembered, then.
  }
}

// What the measures of the page mean, for whoever stumbles over one.
function openMeaning() {
  const meaning = document.querySelector("[data-meaning]");
  if (!meaning) return;
  meaning.open = true;
  meaning.querySelector("summary").focus();
}

// Moves the focus from row to row of the first table on the page; Enter then follows its link.
function moveRow(step) {
  const links = [...document.querySelectorAll("[data-rows] tbody tr th a, [data-rows] tbody tr td.title a")];
  if (links.length === 0) return;
  const at = links.indexOf(document.activeElement);
  const next = at < 0 ? (step > 0 ? 0 : links.length - 1) : Math.min(Math.max(at + step, 0), links.length - 1);
  links[next].focus();
}
