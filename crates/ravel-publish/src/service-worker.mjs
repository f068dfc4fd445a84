// Answers as the edge would, in the browser: for trying a site on a plain file server, and for sites whose host only serves files.
// Register it as a module, from the root: navigator.serviceWorker.register("/service-worker.mjs", { type: "module" }).

import { handle, hasHost, site } from "./edge.mjs";

self.addEventListener("install", () => self.skipWaiting());
self.addEventListener("activate", (event) => event.waitUntil(self.clients.claim()));

/** A file as the server has it. */
const file = (name) => fetch(new URL(name.split("/").map(encodeURIComponent).join("/"), self.registration.scope));

self.addEventListener("fetch", (event) => {
  const url = new URL(event.request.url);
  if (url.origin === self.location.origin) event.respondWith(answer(event.request, url));
});

/** On a host that is none of the site's, such as localhost, the worker answers for the canonical one. */
async function answer(request, url) {
  const own = new URL(site()).origin;
  const asked = hasHost(url.hostname) ? url.origin : own;
  const sent = url.href.slice(url.origin.length);
  const { method, headers } = request;
  const answered = await handle({ method, headers, url: asked + sent }, file);
  if (answered === undefined) return fetch(request);
  const location = answered.headers.get("location");
  if (location === null || asked !== own || !location.startsWith(own + "/")) return answered;
  return Response.redirect(self.location.origin + location.slice(own.length), answered.status);
}
