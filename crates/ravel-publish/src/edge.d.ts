// What edge.mjs exports.

/** A request, as it arrives. */
export interface EdgeRequest {
  method: string;
  scheme: "http" | "https";
  /** What the `host` header or `:authority` says. */
  host: string;
  /** The raw request target: `/path?query`. */
  target: string;
  /** Pairs of name and value; a name may stand several times. A `Headers` is such a list. */
  headers?: Iterable<readonly [string, string]>;
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

/** Decides what a request gets. */
export function decide(request: EdgeRequest): EdgeAnswer;

/**
 * Answers a request by the Fetch standard. `file` gives the response of a built file, by its name.
 * Undefined where another service is to answer.
 */
export function handle(
  request: Pick<Request, "method" | "url" | "headers">,
  file: (name: string) => Response | Promise<Response>,
): Promise<Response | undefined>;

/** The canonical origin and base path. */
export function site(): string;

/** Whether the site has this host. */
export function hasHost(host: string): boolean;
