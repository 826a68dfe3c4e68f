// A form whose answer is on the same page follows what is typed: the answer takes the place of what
// stood there, and the address and the Back key keep up.
export function follow(part) {
  const listen = (form) => {
    form.addEventListener("change", () => ask(form));
    form.addEventListener("submit", (event) => {
      event.preventDefault();
      ask(form);
    });
  };
  let newest = 0;
  const ask = async (form) => {
    const address = `${form.action}?${new URLSearchParams(new FormData(form))}`;
    const mine = ++newest;
    const focus = document.activeElement?.name;
    const answer = await fetch(address);
    if (mine !== newest) return;
    const page = new DOMParser().parseFromString(await answer.text(), "text/html");
    if (!answer.ok) return refuse(form, page.querySelector(".lead")?.textContent);
    const anew = page.querySelector("[data-account]");
    if (!anew) return;
    document.querySelector("[data-account]").replaceWith(anew);
    history.pushState(null, "", address);
    const next = anew.querySelector("[data-follow]");
    listen(next);
    if (focus) next.querySelector(`[name="${focus}"]`)?.focus();
  };
  addEventListener("popstate", () => location.reload());
  listen(part);
}

// What was typed stays; why it cannot be is said above it.
function refuse(form, why) {
  form.querySelector(".problem")?.remove();
  const problem = document.createElement("p");
  problem.className = "problem";
  problem.setAttribute("role", "alert");
  problem.textContent = why ?? "That could not be computed; check the values.";
  form.prepend(problem);
}
