/** The width of the window, in the breakpoints of Carbon's grid that the layout uses. */

class Screen {
  /** Below Carbon's medium: a phone. */
  isPhone = $state(false);
  /** Below Carbon's large: the areas are in a menu, the inspector lies over the page. */
  isNarrow = $state(false);

  constructor() {
    const watch = (query: string, set: (matches: boolean) => void) => {
      const media = matchMedia(query);
      set(media.matches);
      media.addEventListener("change", () => set(media.matches));
    };
    watch("(max-width: 41.98rem)", (matches) => (this.isPhone = matches));
    watch("(max-width: 65.98rem)", (matches) => (this.isNarrow = matches));
  }
}

export const screen = new Screen();
