// What edge.mjs exports.

/** A request, as it arrives. */
export interface EdgeRequest {
  method: string;
  /** With or without a colon. */
  scheme: "http" | "https" | "http:" | "https:";
  /** What the `host` header or `:authority` says. */
  host: string;
  /** The raw request target: `/path?query`. */
  target: string;
  /** A `Headers`, pairs of name and value, or an object with texts or lists of them, as Node has it. */
  headers?: Iterable<readonly [string, string]> | Readonly<Record<string, string | readonly string[] | undefined>> | null;
}

/** What a request gets. */
export interface EdgeAnswer {
  outcome: "file" | "redirect" | "gone" | "missing" | "outside" | "elsewhere" | "refused" | "loop";
  /** Null where another service answers. */
  status: number | null;
  /** The name of a built file, from the root of their folder. */
  file: string | null;
  /** Pairs of name, in lower case, and value, in order. */
  headers: [string, string][];
}

/** Decides what a request gets. What is none of a request's throws a TypeError that names it. */
export function decide(request: EdgeRequest): EdgeAnswer;

/** The text of an answer with this status that shows no file. */
export function bodyOf(status: number): string | undefined;

/** The canonical origin and base path. */
export function site(): string;

/** Whether the site has this host. */
export function hasHost(host: string): boolean;
