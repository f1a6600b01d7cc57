/* Menus and the look of the site, for Alpine. */
document.addEventListener("alpine:init", () => {
  Alpine.data("menu", () => ({
    open: false,
    get expanded() { return String(this.open); },
    toggle() { this.open = !this.open; },
    close() { this.open = false; },
    get words() { return this.open ? "Less" : "More"; },
    get css() { return this.open ? "open" : ""; },
  }));
  Alpine.data("look", () => ({
    set(theme) {
      document.cookie = `theme=${theme}; path=/; max-age=31536000; SameSite=Lax`;
      if (theme) document.documentElement.dataset.theme = theme;
      else delete document.documentElement.dataset.theme;
    },
    system() { this.set(""); },
    light() { this.set("light"); },
    dark() { this.set("dark"); },
  }));
});
