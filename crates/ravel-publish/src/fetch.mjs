// Answers requests by the Fetch standard with what edge.mjs decides.
//
//   handle(request, file) -> a Response; undefined where another service is to answer
//
// `file(name, request)` gives what storage says of a built file. The request is for its `range` and its conditions; it is
// missing where the whole file is wanted whatever the request says, as for the 404 page. Null and undefined say that there is
// no such file.

import { bodyOf, decide } from "./edge.mjs";

/** As bytes, since a response made of text would say of which type it is. */
const textOf = (status) => new TextEncoder().encode(bodyOf(status));

/** What storage says of a file's bytes; all else is the rules' to say. */
const OF_STORAGE = ["accept-ranges", "content-encoding", "content-length", "content-range", "etag", "last-modified"];

const missing = () => new Response(textOf(404), { status: 404, headers: { "content-type": "text/plain; charset=utf-8" } });

export async function handle(request, file) {
  const { protocol, host } = new URL(request.url);
  // As it was sent: what follows the host, without the fragment.
  const target = request.url.replace(/^[^/]*\/\/[^/?#]*|#.*/gs, "");
  const { method, headers } = request;
  const { outcome, status, file: name, headers: lines } = decide({ method, scheme: protocol, host, target, headers });
  if (outcome === "elsewhere") return undefined;
  const fields = new Headers(lines);
  const answer = (body, status, headers) => new Response(method === "HEAD" || status === 304 ? null : body, { status, headers });
  if (name === null) return answer(textOf(status), status, fields);
  // Storages say in several ways that there is no such file.
  const stored = (await file(name, status === 200 ? request : undefined)) ?? missing();
  if (status !== 200 && stored.status !== 200) {
    // A page for an error that is an error itself.
    fields.set("content-type", "text/plain; charset=utf-8");
    return answer(textOf(status), status, fields);
  }
  // What the rules say is for the file, not for an error of storage.
  if (![200, 206, 304].includes(stored.status)) return answer(stored.body, stored.status, stored.headers);
  for (const name of OF_STORAGE) {
    if (stored.headers.has(name) && !fields.has(name)) fields.set(name, stored.headers.get(name));
  }
  if (stored.headers.has("vary")) fields.append("vary", stored.headers.get("vary"));
  return answer(stored.body, status === 200 ? stored.status : status, fields);
}
