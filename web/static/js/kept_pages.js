/* The pages that are on this device, listed where another one is not. */
async function titles() {
  const names = (await caches.keys()).filter((name) => name.startsWith("pages-"));
  const found = [];
  for (const name of names) {
    const cache = await caches.open(name);
    for (const request of await cache.keys()) {
      const page = new DOMParser().parseFromString(await (await cache.match(request, { ignoreVary: true })).text(), "text/html");
      found.push([new URL(request.url).pathname, page.title]);
    }
  }
  return found.sort(([, a], [, b]) => a.localeCompare(b));
}
const list = document.getElementById("kept-pages");
if (list && "caches" in window) {
  const rows = (await titles()).map(([path, title]) => {
    const row = document.createElement("li");
    row.append(Object.assign(document.createElement("a"), { href: path, textContent: title }));
    return row;
  });
  list.replaceChildren(...rows);
}
