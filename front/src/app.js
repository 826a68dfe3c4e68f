import { decide } from "./decide.js";
import { canBeTaken } from "./drawn.js";
import { drawLines, drawShape, drawStanding, drawStrip } from "./charts.js";
import { expression } from "./steps.js";
import { follow } from "./follow.js";
import { keys } from "./keys.js";
import { followJobs, restoreFocus } from "./jobs.js";

keys();
restoreFocus();
followJobs();

for (const figure of document.querySelectorAll("[data-shape]")) drawShape(figure, JSON.parse(figure.dataset.shape));
for (const figure of document.querySelectorAll("[data-strip]")) drawStrip(figure, JSON.parse(figure.dataset.strip));
for (const figure of document.querySelectorAll("[data-lines]")) drawLines(figure, JSON.parse(figure.dataset.lines));
for (const figure of document.querySelectorAll("[data-standing]")) drawStanding(figure, JSON.parse(figure.dataset.standing));
for (const place of document.querySelectorAll("[data-drawing]")) canBeTaken(place);
for (const field of document.querySelectorAll("[data-expression]")) expression(field);
for (const board of document.querySelectorAll("[data-decide]")) decide(board);
for (const form of document.querySelectorAll("[data-follow]")) follow(form);

// A file over the limit is refused before it is sent.
for (const form of document.querySelectorAll("[data-upload]")) {
  const field = form.querySelector("[type=file]");
  field.addEventListener("change", () => {
    const most = Number(form.dataset.upload);
    const tooLarge = [...field.files].some((file) => file.size > most);
    field.setCustomValidity(tooLarge ? form.dataset.tooLarge : "");
    if (tooLarge) field.reportValidity();
  });
}

document.querySelector("[data-print]")?.addEventListener("click", () => print());

const button = document.querySelector("[data-theme-button]");
if (button) {
  const night = document.documentElement.dataset.theme === "night";
  button.value = night ? "day" : "night";
  button.textContent = night ? "Day" : "Night";
}
document.querySelector("[data-back]")?.addEventListener("click", (event) => {
  if (history.length > 1) {
    event.preventDefault();
    history.back();
  }
});
