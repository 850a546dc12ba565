/** Light and dark: Carbon's own themes, chosen by the system until somebody chooses. */

type Choice = "light" | "dark";

const KEY = "gubernum.theme";
const system = matchMedia("(prefers-color-scheme: dark)");
const kept = localStorage.getItem(KEY);

export const theme = $state<{ choice: Choice }>({
  choice: kept === "light" || kept === "dark" ? kept : system.matches ? "dark" : "light",
});

export function applyTheme() {
  document.documentElement.setAttribute("theme", theme.choice === "dark" ? "g100" : "g10");
  document.documentElement.style.colorScheme = theme.choice;
}

/** Chooses one; kept in this browser, so that the page before signing in has it too. */
export function setTheme(choice: Choice) {
  theme.choice = choice;
  localStorage.setItem(KEY, choice);
  applyTheme();
}
