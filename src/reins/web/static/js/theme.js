// Runs before the page is drawn and names its theme: one chosen by hand wins over the system's setting.

const system = matchMedia("(prefers-color-scheme: dark)");
const root = document.documentElement.dataset;

function nameTheme() {
  root.theme = localStorage.getItem("reins-theme") ?? (system.matches ? "night" : "day");
  window.dispatchEvent(new Event("themechange"));
}

/** Change between day and night, and keep the choice. */
window.changeTheme = () => {
  localStorage.setItem("reins-theme", root.theme === "night" ? "day" : "night");
  nameTheme();
};
system.addEventListener("change", nameTheme);
nameTheme();
