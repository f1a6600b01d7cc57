/* What this browser remembers; a private window may refuse to. */
const inStorage = (storage) => ({
  get(key) { try { return storage().getItem(key); } catch { return null; } },
  set(key, value) {
    try {
      if (value === null) storage().removeItem(key);
      else storage().setItem(key, value);
    } catch { /* private window */ }
  },
  clear() { try { storage().clear(); } catch { /* private window */ } },
});
export const memory = inStorage(() => localStorage);
/* The same for this tab, until it is closed. */
export const tabMemory = inStorage(() => sessionStorage);
