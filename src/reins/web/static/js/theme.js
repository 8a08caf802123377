// Runs before the page is drawn: a theme chosen by hand wins over the system's setting.

const chosen = localStorage.getItem("reins-theme");
if (chosen) document.documentElement.dataset.theme = chosen;

const isNight = () => (document.documentElement.dataset.theme ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "night" : "day")) === "night";

/** Change between day and night, and keep the choice. */
window.changeTheme = () => {
  const theme = isNight() ? "day" : "night";
  document.documentElement.dataset.theme = theme;
  localStorage.setItem("reins-theme", theme);
  window.dispatchEvent(new Event("themechange"));
};
matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => window.dispatchEvent(new Event("themechange")));
