// Answers as the edge would, in the browser: for trying a site on a plain file server, and for sites whose host only serves files.
// Register it as a module, from the base path, so that new rules are taken at once whatever caches say:
//   navigator.serviceWorker.register("/service-worker.mjs", { type: "module", updateViaCache: "none" })

import { hasHost, site } from "./edge.mjs";
import { handle } from "./fetch.mjs";

self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));

/** What a server may answer with a part, or with nothing new. */
const CONDITIONS = ["range", "if-range", "if-none-match", "if-modified-since"];

/** A file as the server has it; its bytes have been decoded on the way here. */
async function file(name, request) {
  const url = new URL(name.split("/").map(encodeURIComponent).join("/"), self.registration.scope);
  const asked = CONDITIONS.filter((name) => request?.headers.has(name)).map((name) => [name, request.headers.get(name)]);
  const stored = await fetch(url, { headers: asked });
  const headers = new Headers(stored.headers);
  if (headers.has("content-encoding")) ["content-encoding", "content-length"].forEach((name) => headers.delete(name));
  return new Response(stored.status === 304 ? null : stored.body, { status: stored.status, headers });
}

self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  if (url.origin === self.location.origin) event.respondWith(answer(event.request, url));
});

/** On a host that is none of the site's, such as localhost, the worker answers for the canonical one. */
async function answer(request, url) {
  const own = new URL(site()).origin;
  const asked = hasHost(url.hostname) ? url.origin : own;
  const sent = url.href.slice(url.origin.length);
  const { method } = request;
  const headers = new Headers(request.headers);
  // Browsers add it behind the worker.
  if (!headers.has("accept-language")) headers.set("accept-language", navigator.languages.join(", "));
  const answered = await handle({ method, headers, url: asked + sent }, file);
  if (answered === undefined) return fetch(request);
  const location = answered.headers.get("location");
  if (location === null || asked !== own || !location.startsWith(own + "/")) return answered;
  return Response.redirect(self.location.origin + location.slice(own.length), answered.status);
}
