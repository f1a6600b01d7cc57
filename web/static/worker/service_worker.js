/* The service worker: files of this version are kept whole, pages as they were seen last. A page is
   asked of the site first, and taken from this device when the site cannot be reached.
   SETTINGS is written before this script by the site. */
/* global SETTINGS, workbox */
importScripts(...SETTINGS.library);

const PAGES = `pages-${SETTINGS.version}`;
const WAIT_S = 3, MOST_PAGES = 80, MONTH_S = 30 * 24 * 3600;
/* Places that make sense without the site. */
const KEPT = /^\/jobs\/(\d+\/(survey\/|bench\/(\d+\/|round\/(\d+\/)?)?|loads\/(add\/|\d+\/)|trials\/(\d+\/)?|watch\/(card\/)?))?$/;
const isKept = (url) => url.origin === location.origin && KEPT.test(url.pathname);

/* Whoever has to sign in is sent elsewhere: that is not the page. */
const ifWhole = { cacheWillUpdate: async ({ response }) => response.status === 200 && !response.redirected ? response : null };
const pages = new workbox.strategies.NetworkFirst({
  cacheName: PAGES,
  networkTimeoutSeconds: WAIT_S,
  matchOptions: { ignoreVary: true },
  plugins: [ifWhole, new workbox.expiration.ExpirationPlugin({ maxEntries: MOST_PAGES, maxAgeSeconds: MONTH_S, matchOptions: { ignoreVary: true } })],
});

workbox.core.skipWaiting();
workbox.core.clientsClaim();
workbox.precaching.cleanupOutdatedCaches();
/* Names of files change with their content, those of pages do not. */
const isNamedByContent = (url) => /\.[0-9a-f]{12}\./.test(url);
workbox.precaching.precacheAndRoute([
  ...SETTINGS.files.map((url) => ({ url, revision: isNamedByContent(url) ? null : SETTINGS.version })),
  { url: SETTINGS.offlinePage, revision: SETTINGS.version },
]);
workbox.routing.registerRoute(({ request, url }) => request.mode === "navigate" && isKept(url), pages);
workbox.routing.registerRoute(({ request }) => request.mode === "navigate", new workbox.strategies.NetworkOnly());
workbox.routing.setCatchHandler(async ({ request }) => {
  if (request.mode !== "navigate") return Response.error();
  const kept = await (await caches.open(PAGES)).match(request, { ignoreSearch: true, ignoreVary: true });
  return kept || workbox.precaching.matchPrecache(SETTINGS.offlinePage);
});

/* Pages of another version never meet files of this one. */
addEventListener("activate", (event) => {
  const outdated = async () => {
    const names = await caches.keys();
    await Promise.all(names.filter((name) => name.startsWith("pages-") && name !== PAGES).map((name) => caches.delete(name)));
  };
  event.waitUntil(outdated());
});
/* Whoever signs in or out, or changes an account, leaves no pages to the next one at this device. */
addEventListener("fetch", (event) => {
  const { method, url } = event.request;
  if (method === "POST" && !new URL(url).pathname.startsWith("/jobs/")) event.waitUntil(caches.delete(PAGES));
});
/* Pages that a job's device will need, fetched one after another. */
async function keep(addresses) {
  const cache = await caches.open(PAGES);
  for (const address of addresses) {
    try {
      const answer = await fetch(address, { credentials: "same-origin" });
      if (answer.status === 200 && !answer.redirected) await cache.put(address, answer);
    } catch { return; }
  }
}
addEventListener("message", (event) => {
  if (Array.isArray(event.data?.keep)) event.waitUntil(keep(event.data.keep.filter((address) => isKept(new URL(address, location.origin)))));
});
