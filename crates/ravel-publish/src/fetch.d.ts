// What fetch.mjs exports.

/**
 * Answers a request by the Fetch standard; undefined where another service is to answer.
 *
 * `file` gives the response of a built file, by its name. With the request it may answer a range (206) or a condition
 * (304); without one it must give the whole file. 404 and 5xx are passed on as they are; nothing is 404.
 */
export function handle(
  request: Pick<Request, "method" | "url" | "headers">,
  file: (name: string, request?: Pick<Request, "method" | "url" | "headers">) => Response | null | undefined | Promise<Response | null | undefined>,
): Promise<Response | undefined>;
