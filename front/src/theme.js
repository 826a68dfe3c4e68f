// Before the page is drawn: day or night as chosen, otherwise as the system has it.
const chosen = document.cookie.match(/(?:^|; )pronoia_theme=(day|night)/)?.[1];
const system = matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "day";
document.documentElement.dataset.theme = chosen ?? system;
document.documentElement.classList.add("scripted");
