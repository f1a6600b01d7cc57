/* Entries that wait on this device until the site has them: kept by the browser when the page is
   closed, or in this page alone where the browser keeps nothing (a private window). */
import { openDB } from "../vendor/idb.js";

const STORE = "entries";
const opened = openDB("steady-needle", 1, {
  upgrade: (database) => { database.createObjectStore(STORE, { keyPath: "id", autoIncrement: true }); },
}).catch(() => null);

const inThisPage = new Map();
let nextId = 1;

/* All entries of a person, oldest first. */
export async function entriesOf(user) {
  const database = await opened;
  const all = database ? await database.getAll(STORE) : [...inThisPage.values()];
  return all.filter((entry) => entry.user === user);
}
/* Stores a new entry, or a changed one; returns it with its id. */
export async function put(entry) {
  const database = await opened;
  if (!database) {
    const stored = { ...entry, id: entry.id || nextId++ };
    inThisPage.set(stored.id, stored);
    return stored;
  }
  const { id, ...rest } = entry;
  return { ...rest, id: await database.put(STORE, id ? entry : rest) };
}
export async function drop(id) {
  const database = await opened;
  if (database) await database.delete(STORE, id);
  else inThisPage.delete(id);
}
