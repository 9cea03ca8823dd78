import { create } from "zustand";

type Theme = "paper" | "dusk";
const KEY = "tidy-caravan-theme";
const stored = (): Theme => (localStorage.getItem(KEY) === "dusk" ? "dusk" : "paper");

export const useTheme = create<{ theme: Theme; toggle: () => void }>((set, get) => {
  document.documentElement.dataset.theme = stored();
  return {
    theme: stored(),
    toggle: () => {
      const theme = get().theme === "paper" ? "dusk" : "paper";
      localStorage.setItem(KEY, theme);
      document.documentElement.dataset.theme = theme;
      set({ theme });
    },
  };
});
