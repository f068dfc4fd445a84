// What the site answers: an interpreter of the program in the table at the end of this file.
//
//   decide({ method, scheme, host, target, headers }) -> { outcome, status, file, headers }
//   site() -> the canonical origin and base path
//
// It needs nothing but the language itself. Paths, queries and hosts are ASCII, and what they mean
// is bytes, a character each, so that everything compares text byte for byte. A table of another
// version, or with an operation that is not known here, throws when this file is loaded.
//
// If you change this, change edge/decide.rs too: both interpret one program.

const VERSION = 3;
const MAX_REDIRECTS_JOINED = 16;
// Normalized, without its fragment.
const MAX_URL_BYTES = 8192;

const TEXT = "text/plain; charset=utf-8";

// --- Text -------------------------------------------------------------------------------------

const NOT_IN_PATH = /[^A-Za-z0-9\-._~!$&'()*+,;=:@]/g;
const NOT_IN_QUERY = /[^!$-&(-;=?-~]/g;
const NOT_IN_FRAGMENT = /[^!#-;=?-_a-~]/g;
const RESERVED = /[^A-Za-z0-9\-._~]/g;

const lower = (text) => text.replace(/[A-Z]+/g, (letters) => letters.toLowerCase());
const trim = (text) => text.replace(/^[ \t]+|[ \t]+$/g, "");
const escape = (byte) => "%" + byte.charCodeAt(0).toString(16).toUpperCase().padStart(2, "0");

/** Percent-decodes to bytes; a broken escape stays as text. */
const decode = (text) =>
  text.replace(/%([0-9A-Fa-f]{2})/g, (_, hex) => String.fromCharCode(parseInt(hex, 16)));

/** Decodes a key or value as forms write it. */
const formDecode = (text) => decode(text.replaceAll("+", " "));

/** The bytes of a text in UTF-8. */
const bytesOf = (text) => decode(encodeURIComponent(text));

/** The text of bytes in UTF-8; null where they are none. */
function textOf(bytes) {
  try {
    return decodeURIComponent(bytes.replace(RESERVED, escape));
  } catch {
    return null;
  }
}

// --- URLs -------------------------------------------------------------------------------------

/** A normalized path; null where it is none (RFC 3986, sections 5.2.4 and 6.2.2). */
function normalize(path) {
  if (/^\/[!$&-;=@-Z_a-z~]*$/.test(path) && !path.includes("/.")) return path;
  if (!path.startsWith("/")) return null;
  if (/[\u0000-\u001f\u007f\\]/.test(path) || /%(?![0-9A-Fa-f]{2})/.test(path)) return null;
  const spelled = path.replace(/%..|[^!$-;=@-Z_a-z~]/gu, (unit) =>
    (/^%../.test(unit) ? decode(unit) : bytesOf(unit)).replace(NOT_IN_PATH, escape),
  );
  if (!spelled.includes("/.")) return spelled;
  const out = [];
  spelled.slice(1).split("/").forEach((segment, at, { length }) => {
    const dots = segment === "." || segment === "..";
    if (segment === "..") out.pop();
    if (!dots) out.push(segment);
    else if (at === length - 1) out.push("");
  });
  return "/" + out.join("/");
}

/** A host of a request in lower case without port and final dot; null where it is none. */
function hostOf(text) {
  // Most requests are for the host of the one before.
  if (text !== last.text) last = { text, host: readHost(text) };
  return last.host;
}
let last = {};

function readHost(text) {
  const [, name, port = ""] = /^(.*?)(?::([^:\]]*))?$/s.exec(text);
  const host = lower(name.replace(/(?<!\])\.$/, ""));
  const labels = /^[a-z0-9_-]{1,63}(\.[a-z0-9_-]{1,63})*$/.test(host) && host.length <= 253;
  if (!/^[0-9]*$/.test(port) || port > 65535) return null;
  return labels || /^\[[0-9a-f:.]+\]$/.test(host) ? host : null;
}

/** A URL by its parts; null where they make none. */
function urlOf(scheme, hostText, sent) {
  // Halves of a character are none.
  const target = sent.replace(/[\ud800-\udfff]/gu, "\ufffd");
  const [, sentPath, query, fragment] = /^([^?#]*)(?:\?([^#]*))?(?:#(.*))?$/s.exec(target);
  const [host, path] = [hostOf(hostText), normalize(sentPath)];
  const part = (text, not) => text && bytesOf(text).replace(not, escape);
  const rest = { query: part(query, NOT_IN_QUERY), fragment: part(fragment, NOT_IN_FRAGMENT) };
  return host === null || path === null ? null : { scheme, host, path, ...rest };
}

const behind = (mark, text) => (text === undefined ? "" : mark + text);
/** A place's URL, which is written once. */
const withoutFragment = (place) => {
  const { scheme, host, port, path, query } = place;
  return (place.url ??= `${scheme}://${host}${behind(":", port)}${path}${behind("?", query)}`);
};

/** The parameters of a query: each as it stands, its key and its value, both decoded. */
const parameters = (query) =>
  !query ? [] : query.split("&").filter((part) => part !== "").map((part) => {
    const at = (part + "=").indexOf("=");
    return { part, key: formDecode(part.slice(0, at)), sent: part.slice(at + 1) };
  });

// --- Patterns ---------------------------------------------------------------------------------
//
// An expression takes as little as it can, the one further left first. What could not follow one up
// to some end is not tried again, so that a path is read at most once for each expression.

const [SEGMENT, SEGMENTS] = [0, 2];

/** What a template captures of a path, as ranges; null where it does not match. */
function match(parts, path) {
  const failed = new Set();
  const from = (number, at) => {
    const part = parts[number];
    if (part === undefined) return at === path.length ? [] : null;
    if (typeof part === "string")
      return path.startsWith(part, at) ? from(number + 1, at + part.length) : null;
    for (let end = at; end <= path.length; end += path[end] === "%" ? 3 : 1) {
      const key = end * parts.length + number;
      if (failed.has(key)) return null;
      const further = end === at && part === SEGMENT ? null : from(number + 1, end);
      if (further) return [[at, end], ...further];
      if (end > at || part !== SEGMENT) failed.add(key);
      if (part === SEGMENT && path[end] === "/") return null;
      if (part === SEGMENTS && end === at && path[end] !== "/") return null;
    }
    return null;
  };
  return from(0, 0);
}

// What a rule's pattern captures of a request, as { text, from }; null where it does not match.
// The host, and a path without expressions, are as the index says.
function matchRule(rule, visit) {
  if (rule.isFound) return [];
  if (rule.schemes?.includes(visit.scheme) === false) return null;
  const captures = rule.label ? [{ text: visit.host.replace(/\..*/, ""), from: "host" }] : [];
  const path = rule.schemes ? visit.path : visit.relative;
  const spans = typeof rule.path === "string" ? [] : match(rule.path, low(path));
  if (spans === null) return null;
  for (const [start, end] of spans) captures.push({ text: path.slice(start, end), from: "path" });
  for (const [key, test, wanted] of rule.query ?? []) {
    const is = (sent) => formDecode(sent) === wanted;
    const takes = { present: () => true, is, capture: (sent) => sent }[test];
    const text = visit.parameters.find((one) => one.key === key && takes(one.sent))?.sent;
    if (text === undefined) return null;
    if (test === "capture") captures.push({ text, from: "query" });
  }
  return captures;
}

const low = (text) => (table.fold ? lower(text) : text);
const decoded = ({ text, from }) => (from === "query" ? formDecode(text) : decode(text));

// --- Tests ------------------------------------------------------------------------------------

/** Something of the table by its name; throws where that is not known. */
function known(names, name) {
  if (own(names, name) !== undefined) return names[name];
  throw new Error(`edge.mjs: unknown: ${name}`);
}

/** Each set of accepted texts gives a function of a text. */
const SETS = {
  digits: (least, most) => (text) =>
    /^[0-9]*$/.test(text) && text.length >= least && text.length <= (most ?? Infinity),
  // A table of states, a regular expression once: one step a byte.
  matches: ({ classes, next, last }) => (text) => {
    const width = next.length / last.length;
    let state = 0;
    for (let at = 0; state >= 0 && at < text.length; at += 1)
      state = next[state * width + classes[text.charCodeAt(at)]];
    return state >= 0 && last[state] === 1;
  },
  any: () => () => true,
  "one of": (list) => (text) => list.includes(text),
  "one of, folded": (list) => (text) => list.includes(lower(text)),
  contains: (part) => (text) => text.includes(part),
};

/** What each kind of test looks at: the texts of which one is to be accepted. */
const SUBJECTS = {
  capture: (slot, _, captures) => [decoded(captures[slot])],
  host: (_, { host }) => [host],
  scheme: (_, { scheme }) => [scheme],
  role: (_, { role }) => [role],
  method: (_, { method }) => [method],
  language: (name, { header }) => [languageOf(header(name).join())],
  header: (name, { header }) => header(name),
  cookie: (name, { header }) => cookies(header("cookie").join(), name),
  "file exists": (_, { relative }) => (relative !== null && named(relative) ? [relative] : []),
  type: (_, { type }) => [type.replace(/;.*/, ""), type.replace(/\/.*/, "/*")],
};

function readyTest([not, kind, of, set, ...accepted]) {
  const [texts, accepts] = [known(SUBJECTS, kind), known(SETS, set)(...accepted)];
  const negated = known([false, true], not);
  const header = { cookie: "cookie", header: of, language: of }[kind];
  const passes = (visit, captures) => texts(of, visit, captures).some(accepts) !== negated;
  return { header, passes };
}

/** The values of the cookies of a name. */
const cookies = (value, name) =>
  value.split(";").flatMap((pair) => {
    const at = (pair + "=").indexOf("=");
    return trim(pair.slice(0, at)) === name ? [trim(pair.slice(at + 1))] : [];
  });

/** Which of the site's languages the visitor gets (RFC 4647, section 3.4), or else the first. */
function languageOf(value) {
  const ranges = value.split(",").map((item) => {
    const [range, ...rest] = item.split(";").map(trim);
    const weight = rest.find((part) => /^q=/i.test(part))?.slice(2) ?? "1";
    return [lower(range), /^(0(\.\d{0,3})?|1(\.0{0,3})?)$/.test(weight) ? Number(weight) : 0];
  });
  const wanted = ranges.filter(([range, weight]) => weight > 0 && range !== "*");
  for (let [range] of wanted.sort((one, two) => two[1] - one[1])) {
    // A range, then without its last subtag; a single letter goes with the one behind it.
    for (; range !== ""; range = /^(.+?)(-.)?-[^-]*$/.exec(range)?.[1] ?? "") {
      if (table.languages.includes(range)) return range;
    }
  }
  return table.languages[0];
}

// --- Targets ----------------------------------------------------------------------------------
//
// A target's part is a text, or a list of texts and slots of captures.

function intoPath(capture) {
  if (capture.from !== "query") return capture.text;
  const text = textOf(decoded(capture));
  if (text === null || /^\.\.?$|[\u0000-\u001f\u007f-\u009f]/.test(text)) return null;
  return decoded(capture).replace(NOT_IN_PATH, escape);
}

const intoQuery = (capture) =>
  capture.from === "query" ? capture.text : decoded(capture).replace(RESERVED, escape);

function intoLabel(capture) {
  const label = lower(decoded(capture));
  const known = capture.from === "host" || label.slice(2, 4) !== "--";
  return known && /^(?!-)[a-z0-9-]{1,63}(?<!-)$/.test(label) ? label : null;
}

function put(parts, captures, into) {
  if (!Array.isArray(parts)) return parts;
  const texts = parts.map((part) => (typeof part === "string" ? part : into(captures[part])));
  return texts.includes(null) ? null : texts.join("");
}

function putPath(parts, captures) {
  const path = put(parts, captures, intoPath)?.replace(/^\/*/, "/");
  return typeof parts === "string" ? path : normalize(path ?? "")?.replace(/^\/*/, "/") ?? null;
}

/** Where a redirect leads; null where a capture cannot stand in it. */
function expand({ to, query: wanted = [], drop }, captures, [scheme, home], query) {
  const host = put(to.host, captures, intoLabel) ?? (to.host ? null : home);
  const path = putPath(to.path, captures);
  const fragment = put(to.fragment, captures, intoPath);
  if (host === null || path === null || fragment === null || host.length > 253) return null;
  const own = put(to.query, captures, intoQuery);
  const kept = [...wanted.map(([key]) => key), ...parameters(own).map(({ key }) => key)];
  const carried = drop ? [] : parameters(query).filter(({ key }) => !kept.includes(key));
  const parts = [own, ...carried.map(({ part }) => part)].filter((part) => part);
  return {
    scheme: to.scheme ?? scheme, host, port: to.port, fragment,
    path: to.host ? path : below(path),
    query: parts.length > 0 ? parts.join("&") : own,
  };
}

/** A path below the base path as a whole path. */
const below = (path) => table.base + path;

// --- Files ------------------------------------------------------------------------------------

const [SERVES, MOVED] = [0, 1];

function exact(path) {
  const found = table.addresses.get(path);
  if (found !== undefined || !/%[89A-F]/.test(path) || path.includes("%2F")) return found;
  const composed = textOf(decode(path))?.normalize("NFC");
  const parts = bytesOf(composed ?? "").split("/");
  return table.addresses.get(parts.map((part) => part.replace(NOT_IN_PATH, escape)).join("/"));
}

const folded = (path) => (table.fold ? table.folded.get(lower(path)) : undefined);

/** The file that a path of a rule names, in any variant; null for none. */
const anyFile = (path) => (exact(path) ?? folded(path))?.file ?? null;

/** What a URL's path names: { file, gets }; null for nothing. */
function named(path) {
  const same = exact(path);
  const found = same ?? folded(path);
  if (found?.gets > MOVED) return null;
  if (found) return same || !table.tidy ? found : { ...found, gets: MOVED };
  const file = table.tidy && path.includes("//") ? anyFile(path.replace(/\/{2,}/g, "/")) : null;
  return file === null ? null : { file, gets: MOVED };
}

const typeOf = (name) => table.types.get(lower(/\.([^./]*)$/.exec(name)?.[1] ?? "."));

// --- The index --------------------------------------------------------------------------------
//
// Literal paths are keys. A path with expressions is found by a walk over its segments: each is a
// text, or stands between the texts around its expressions; the rest is found by its ends.

/** A value by a key that may be any text. */
const own = (object, key) => (Object.hasOwn(object, key) ? object[key] : undefined);

/** A key of the two ends of a text; undefined where it is shorter. */
const endsOf = (text, before, after) =>
  text.length < before + after
    ? undefined
    : `${text.slice(0, before)}\n${text.slice(text.length - after)}`;

/** Adds the numbers of rules that could match a path. */
function look({ literal, valued, root }, path, visit, found) {
  const add = (list) => found.push(...(list ?? []));
  add(own(literal, path));
  for (const { key, sent } of visit.parameters)
    add(own(valued, `${path}\n${key}\n${formDecode(sent)}`));
  for (const open = [[root, path]]; open.length > 0; ) {
    const [[ends, texts = {}, around = [], tails = []], rest] = open.pop();
    for (const [before, after, map] of tails) add(own(map, endsOf(rest, before, after)));
    if (rest === "") add(ends);
    if (rest === "") continue;
    const [, segment, further] = /^.([^/]*)(.*)/s.exec(rest);
    const go = (node) => node && open.push([node, further]);
    go(own(texts, segment));
    for (const [before, after, map] of around) go(own(map, endsOf(segment, before, after)));
  }
}

/** The numbers of the rules of a stage that could match, in the order of the file. */
function candidates({ plain, indexed, index: { relative, hosts, labels } }, visit) {
  const listed = plain.get(low(visit.relative ?? "")) ?? [];
  if (!indexed) return listed;
  const found = [...listed];
  const lookIn = (index, path) => index && look(index, low(path), visit, found);
  if (visit.relative) lookIn(relative, visit.relative);
  lookIn(own(hosts, visit.host), visit.path);
  if (visit.role === "preview") lookIn(own(hosts, table.host), visit.path);
  lookIn(own(labels, restOf(visit.host)), visit.path);
  return found.sort((one, two) => one - two).filter((number, at) => number !== found[at - 1]);
}

// --- The decision -----------------------------------------------------------------------------

/** What follows a base path, with its first `/`: "" for the base path without one, null outside. */
function after(path, base) {
  if (base === "") return path;
  const rest = path.slice(base.length);
  const inside = low(path.slice(0, base.length)) === low(base);
  return inside && /^(\/|$)/.test(rest) ? rest : null;
}

const restOf = (host) => /\.(.*)/.exec(host)?.[1] ?? null;
const settingsOf = (host) => own(table.hosts, host) ?? own(table.hosts, "*." + restOf(host));

/** A request as the rules see it; null for a host that is not the site's. */
function locate({ method, header, vary, otherOrigin }, { scheme, host, port, path, query }) {
  const settings = port ? undefined : settingsOf(host);
  if (settings === undefined) return null;
  const [role, base] = settings.find(([, base]) => after(path, base) !== null) ?? settings[0];
  const tail = after(path, base);
  return {
    method, header, vary, otherOrigin, scheme, host, path, query, parameters: parameters(query),
    role, relative: tail || null, noSlash: tail === "", stopped: false,
  };
}

/** The first rule of a stage that matches, whose tests pass and that acts: what its act gives. */
function first(stage, visit) {
  for (const number of candidates(stage, visit)) {
    const rule = stage.ruleOf(number);
    const captures = matchRule(rule, visit);
    const ask = (tests) => tests.every(({ passes }) => passes(visit, captures));
    if (captures === null || !ask(rule.plain)) continue;
    // On another origin, what the browser's next request need not carry is not known.
    const isKnown = ({ header }) => !visit.otherOrigin || !table.originBound.includes(header);
    const here = rule.onHeaders.filter(isKnown);
    const stops = here.length < rule.onHeaders.length;
    const acts = stops || rule.act(rule, captures, visit);
    if (acts === null) continue;
    for (const { header } of here) visit.vary.add(header);
    if (!ask(here)) continue;
    visit.stopped = stops;
    if (stops) return null;
    // What changes headers is not the end of it.
    if (typeof acts !== "function") return acts;
    acts();
  }
  return null;
}

/** The origin that a visitor is kept on. */
const home = ({ role, scheme, host }) =>
  role === "preview" ? [scheme, host] : [table.upgrades ? "https" : scheme, table.host];

function redirectTo(rule, captures, visit) {
  const to = expand(rule, captures, home(visit), visit.query);
  if (to === null) return null;
  if (visit.role === "preview" && rule.to.host && !to.port) {
    const bases = (own(table.hosts, to.host) ?? []).filter(([role]) => role !== "preview");
    const path = bases.map(([, base]) => after(to.path, base)).find((rest) => rest !== null);
    const { scheme, host } = visit;
    if (path !== undefined) Object.assign(to, { scheme, host, path: below(path || "/") });
  }
  return withoutFragment(to) === withoutFragment(visit) ? null : to;
}

/** A redirect; the higher its rank, the shorter it may be cached. */
const redirect = (location, status, rank) =>
  ({ outcome: "redirect", status, file: null, location, rank });
const [CANONICAL, PERMANENT, TEMPORARY] = [0, 1, 2];
const canonicalTo = ({ method }, location) =>
  redirect(location, method === "GET" ? 301 : 308, CANONICAL);

/** What the rules, then the canonical URL, say; null where it is left to the files. */
const hop = (visit) =>
  first(table.redirects, visit) ?? (visit.stopped ? null : canonical(visit));

function canonical(visit) {
  const relative = visit.noSlash ? "/" : visit.relative;
  if (relative === null) return null;
  const [scheme, host] = home(visit);
  const path = below(relative);
  const away = scheme !== visit.scheme || host !== visit.host;
  const there = { scheme, host, path, relative, noSlash: false };
  const found = (visit.found = named(relative));
  const variant = found?.gets === MOVED && !isRewritten({ ...visit, ...there }, away);
  if (!away && path === visit.path && !variant) return null;
  const own = variant ? below(table.files[found.file][1]) : path;
  return canonicalTo(visit, { scheme, host, path: own, query: visit.query });
}

/** Whether a rewrite takes a URL, or could, by a header that is not known on its origin. */
function isRewritten(there, away) {
  there.otherOrigin ||= away;
  if (there.role === "alias") there.role = "canonical";
  return first(table.rewrites, there) !== null || there.stopped;
}

/** Applies `hop` to its own outcome, as the browser's next requests would. */
function oneHop(decision, visit) {
  for (const passed = [withoutFragment(visit)]; ; ) {
    const current = decision.location;
    if (passed.includes(withoutFragment(current)) || passed.length > MAX_REDIRECTS_JOINED)
      return { outcome: "loop", status: 508, file: null };
    const next = locate(visit, current);
    if (next === null) return decision;
    next.otherOrigin ||= next.scheme !== visit.scheme || next.host !== visit.host;
    const further = hop(next);
    const to = further?.location;
    if (!to || withoutFragment(to).length > MAX_URL_BYTES) return decision;
    const { status, rank } = further.rank > decision.rank ? further : decision;
    const fragment = to.fragment ?? current.fragment;
    decision = redirect({ ...to, fragment }, status, rank);
    passed.push(withoutFragment(current));
    visit = next;
  }
}

const missing = (visit, outcome, status) => {
  const page = first(table.missing, visit);
  return { outcome, status, file: page ?? (table.lost === null ? null : anyFile(table.lost)) };
};

function fileDecision(visit) {
  if (visit.relative === null) return { outcome: "outside", status: 404, file: null };
  if (visit.method !== "GET") return { outcome: "refused", status: 405, file: null };
  const found = first(table.rewrites, visit) ?? visit.found;
  const file = (found?.gets ? null : found?.file) ?? first(table.fallbacks, visit);
  if (file === null) return missing(visit, "missing", 404);
  return { outcome: "file", status: 200, file };
}

function decision(visit) {
  const inside = visit.noSlash || visit.relative !== null;
  if (table.hsts?.subdomains && visit.scheme === "http" && visit.role !== "preview" && inside)
    return canonicalTo(visit, { ...visit, scheme: "https", url: undefined });
  const acted = hop(visit) ?? fileDecision(visit);
  if (acted.outcome === "gone") return missing(visit, "gone", 410);
  const joins = acted.location && table.oneHop && visit.method === "GET";
  return joins ? oneHop(acted, visit) : acted;
}

/** What a rule does where it is the first; null where it does nothing. */
const rewrite = ({ to }, captures) => {
  const path = putPath(to.path, captures);
  return path === null ? null : { file: anyFile(path) };
};
const show = (rule, captures) => rewrite(rule, captures)?.file ?? null;
const ACTS = {
  redirects: {
    redirect: (rule, captures, visit) => {
      const to = redirectTo(rule, captures, visit);
      const isPermanent = rule.status === 301 || rule.status === 308;
      return to && redirect(to, rule.status, isPermanent ? PERMANENT : TEMPORARY);
    },
    gone: () => ({ outcome: "gone" }),
    elsewhere: () => ({ outcome: "elsewhere", status: null, file: null }),
  },
  rewrites: { rewrite },
  fallbacks: {
    fallback: (rule, captures, { relative }) => (typeOf(relative) ? null : show(rule, captures)),
    "fallback even files": show,
  },
  missing: { missing: show },
  headers: {
    headers: ({ on, ops }, captures, { outcome, change }) =>
      ON[on].test(outcome) ? () => ops.forEach((op) => change(...op)) : null,
  },
};
const ON = { served: /file/, missing: /missing|gone/, redirects: /redirect/, all: /^(?!outside)/ };

const AGES = ["max-age=3600", "max-age=86400", ""];

/** The headers of an answer: what the rules say, then what is automatic. */
function headersOf({ outcome, status, location, rank }, file, visit) {
  let headers = [];
  const change = (op, name, value) => {
    if (op !== "add") headers = headers.filter(([other]) => other !== name);
    if (value) headers.push([name, value]);
  };
  const { role, scheme, vary } = visit;
  const type = file === null ? TEXT : (typeOf(file) ?? "application/octet-stream");
  const to = location && withoutFragment(location) + behind("#", location.fragment);
  change("add", "location", to);
  if (status === 405) change("add", "allow", "GET, HEAD");
  if (outcome !== "elsewhere") {
    change("add", "content-type", type);
    first(table.headers, Object.assign(visit, { outcome, change, type }));
    const page = /^(missing|gone|outside)$/.test(outcome) || /^text\/html/.test(type);
    const age = AGES[rank] ?? (page && "no-cache");
    if (!headers.some(([name]) => name === "cache-control")) change("add", "cache-control", age);
    if (role === "preview") change("set", "x-robots-tag", "noindex");
    else if (table.hsts && scheme === "https" && outcome !== "outside")
      change("set", "strict-transport-security", table.hsts.value);
  }
  if (vary.size === 0) return headers;
  const stated = headers.filter(([name]) => name === "vary").map(([, value]) => value).join();
  const names = stated.split(",").map(trim).filter((name) => name);
  for (const name of table.requestHeaders.filter((name) => vary.has(name)))
    if (!names.some((other) => other === "*" || lower(other) === name)) names.push(name);
  change("set", "vary", names.join(", "));
  return headers;
}

const expected = (name) => {
  throw new TypeError(name + " is not valid");
};
const string = (name, text) => (typeof text === "string" ? text : expected(name));

/** The lines of a `Headers`, of pairs, or of an object with texts or lists of them. */
function linesOf(headers) {
  if (typeof headers !== "object") expected("headers");
  const pairs = headers[Symbol.iterator] ? [...headers] : Object.entries(headers);
  return pairs.flatMap((pair) => {
    const [name, values = []] = Array.isArray(pair) ? pair : expected("headers");
    return [values].flat().map((value) => [name, value].map((text) => string("headers", text)));
  });
}

export function decide({ method, scheme, host, target, headers }) {
  string("method", method);
  const refused = (status) =>
    ({ outcome: "refused", status, file: null, headers: [["content-type", TEXT]] });
  const lines = linesOf(headers ?? []);
  const all = (name) =>
    lines.filter(([other]) => lower(other) === name).map(([, value]) => trim(value));
  const header = (name) =>
    all(name).slice(0, 1).map(() => all(name).join(name === "cookie" ? "; " : ", "));
  const [, own] = /^(https?):?$/.exec(scheme) ?? expected("scheme");
  const url = urlOf(own, string("host", host), string("target", target));
  const [other, more] = all("host");
  const isOne = more === undefined && [undefined, url?.host].includes(other && hostOf(other));
  if (url === null || !isOne) return refused(400);
  if (withoutFragment(url).length > MAX_URL_BYTES) return refused(414);
  const asked = { method: method === "HEAD" ? "GET" : method, header, vary: new Set() };
  const visit = locate(asked, url);
  if (visit === null) return refused(421);
  const acted = decision(visit);
  const { outcome, status } = acted;
  const file = acted.file === null ? null : table.files[acted.file][0];
  return { outcome, status, file, headers: headersOf(acted, file, visit) };
}

/** The text of an answer that shows no file. */
export const bodyOf = (status) => table.bodies[status];
export const site = () => `${table.scheme}://${table.host}${table.base}/`;
export const hasHost = (host) => settingsOf(host) !== undefined;

// --- The table --------------------------------------------------------------------------------

/** Makes the table ready to be asked. */
function prepare({ stages, ...data }) {
  known({ [VERSION]: 1 }, data.version);
  for (const [role] of Object.values(data.hosts).flat())
    known({ canonical: 1, alias: 1, preview: 1 }, role);
  const [addresses, folded] = [new Map(), new Map()];
  for (const [address, file, gets = SERVES] of data.addresses) {
    known([1, 1, 1], gets);
    addresses.set(address, { file, gets });
    // Of those that differ only in case the first counts.
    if (data.fold && !folded.has(lower(address))) folded.set(lower(address), { file, gets });
  }
  const ready = { ...data, types: new Map(data.types), addresses, folded };
  for (const stage of new Set([...Object.keys(ACTS), ...Object.keys(stages)]))
    ready[stage] = readyStage(known(stages, stage), known(ACTS, stage));
  return ready;
}

function readyStage({ rules, index }, acts) {
  const plain = new Map();
  let indexed;
  const ruleOf = (number) => {
    const rule = rules[number];
    const { 0: path, 1: to, 2: status } = rule;
    const whole = path ? { path, do: "redirect", to: { path: to }, status } : rule;
    return rule.act ? rule : (rules[number] = readyRule(whole, acts));
  };
  rules.forEach(({ 0: path, 2: status }, number) => {
    if (path) known({ number: acts.redirect }, typeof status);
    // Of redirects from path to path there may be very many: made when met.
    if (typeof path === "string") plain.set(path, [...(plain.get(path) ?? []), number]);
    else indexed = ruleOf(number);
  });
  return { index, plain, indexed, ruleOf };
}

function readyRule(rule, acts) {
  if (rule.ops) known(ON, rule.on);
  for (const [op] of rule.ops ?? []) known({ set: 1, add: 1, drop: 1 }, op);
  for (const [, test] of rule.query ?? []) known({ present: 1, is: 1, capture: 1 }, test);
  for (const part of [rule.path].flat()) typeof part === "string" || known([1, 1, 1], part);
  const tests = (rule.tests ?? []).map(readyTest);
  const plain = tests.filter(({ header }) => !header);
  const onHeaders = tests.filter(({ header }) => header);
  const isFound = typeof rule.path === "string" && !rule.schemes && !rule.query;
  return { ...rule, isFound, act: known(acts, rule.do), plain, onHeaders };
}

const table = prepare(TABLE);
