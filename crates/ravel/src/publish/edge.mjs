// What the site answers: an interpreter of the program in the table at the end of this file.
//
//   decide({ method, scheme, host, target, headers }) -> { outcome, status, file, headers }
//   handle(request, file) -> a Response, by the Fetch standard; edge.d.ts says more of both
//
// It needs nothing but the language itself. Paths, queries and hosts are ASCII, and what they mean
// is bytes, a character each, so that everything compares text byte for byte. A table of another
// version, or with an operation that is not known here, throws when this file is loaded.
//
// If you change this, change edge/decide.rs too: both interpret one program.

const VERSION = 2;
const MAX_REDIRECTS_JOINED = 16;
const MAX_URL_BYTES = 8192; // normalized, without its fragment

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
  const [, name, port = ""] = /^(.*?)(?::([^:\]]*))?$/s.exec(text);
  const host = lower(name.replace(/(?<!\])\.$/, ""));
  const labels = /^[a-z0-9_-]{1,63}(\.[a-z0-9_-]{1,63})*$/.test(host) && host.length <= 253;
  if (!/^[0-9]*$/.test(port) || port > 65535) return null;
  return labels || /^\[[0-9a-f:.]+\]$/.test(host) ? host : null;
}

/** A URL by its parts; null where they make none. */
function urlOf(scheme, hostText, sent) {
  const target = sent.replace(/[\ud800-\udfff]/gu, "\ufffd"); // halves of a character are none
  const [, sentPath, , query, , fragment] = /^([^?#]*)(\?([^#]*))?(#(.*))?$/s.exec(target);
  const [host, path] = [hostOf(hostText), normalize(sentPath)];
  const part = (text, not) => (text === undefined ? null : bytesOf(text).replace(not, escape));
  const rest = { query: part(query, NOT_IN_QUERY), fragment: part(fragment, NOT_IN_FRAGMENT) };
  return host === null || path === null ? null : { scheme, host, path, ...rest };
}

const withoutFragment = ({ scheme, host, port, path, query }) =>
  `${scheme}://${host}${port ? ":" + port : ""}${path}${query === null ? "" : "?" + query}`;

/** The parameters of a query: each as it stands, its key and its value, both decoded. */
const parameters = (query) =>
  (query ?? "").split("&").filter((part) => part !== "").map((part) => {
    const at = (part + "=").indexOf("=");
    return { part, key: formDecode(part.slice(0, at)), sent: part.slice(at + 1) };
  });

// --- Patterns ---------------------------------------------------------------------------------
//
// A path is read once, unit by unit (a percent-encoded byte is one), by all ways to match so far.
// They are kept in the order of their right: the expression further left takes as little as it can.

const [SEGMENT, SEGMENTS] = [0, 2];

/** What a template captures of a path, as ranges; null where it does not match. */
function match({ prefix, ops }, path) {
  if (!path.startsWith(prefix)) return null;
  let threads = [];
  const enter = (into, seen, op, begun, spans, at) => {
    if (seen[op * 2 + begun]) return;
    seen[op * 2 + begun] = true;
    const form = ops[op];
    const leaves = typeof form === "number" && (begun || form !== SEGMENT);
    if (leaves) enter(into, seen, op + 1, 0, begun ? spans : [...spans, [at, at]], at);
    into.push([op, begun, spans]);
  };
  enter(threads, [], 0, 0, [], prefix.length);
  for (let at = prefix.length; at < path.length && threads.length > 0; ) {
    const unit = path[at] === "%" ? path.slice(at, at + 3) : path[at];
    const [next, seen, end] = [[], [], at + unit.length];
    for (const [op, begun, spans] of threads) {
      const form = ops[op];
      if (typeof form !== "number") {
        if (form === unit) enter(next, seen, op + 1, 0, spans, end);
      } else if (form === SEGMENT ? unit !== "/" : form !== SEGMENTS || begun || unit === "/") {
        const [before, start] = begun ? [spans.slice(0, -1), spans.at(-1)[0]] : [spans, at];
        enter(next, seen, op, 1, [...before, [start, end]], end);
      }
    }
    [threads, at] = [next, end];
  }
  return threads.find(([op]) => op === ops.length)?.[2] ?? null;
}

/** What a rule's pattern captures of a request, as { text, from }; null where it does not match. */
function matchRule(rule, visit) {
  const captures = [];
  if (rule.host !== undefined) {
    if (rule.scheme !== visit.scheme && !(rule.scheme === "https" && table.upgrades)) return null;
    const own = rule.host === visit.host || (visit.role === "preview" && rule.host === table.host);
    if (!(rule.label ? rule.host === visit.rest : own)) return null;
    if (rule.label) captures.push({ text: visit.host.replace(/\..*/, ""), from: "host" });
  }
  const path = rule.host === undefined ? visit.relative : visit.path;
  if (path === null) return null;
  const read = low(path);
  const whole = typeof rule.path === "string";
  const spans = whole ? rule.path === read && [] : match(rule.path, read);
  if (!spans) return null;
  for (const [start, end] of spans) captures.push({ text: path.slice(start, end), from: "path" });
  for (const [key, test, wanted] of rule.query ?? []) {
    const values = visit.parameters.filter((one) => one.key === key).map(({ sent }) => sent);
    const text = values.find((value) => value !== "");
    if (test === "is" ? !values.some((value) => formDecode(value) === wanted) : values.length === 0)
      return null;
    if (test === "capture" && text === undefined) return null;
    if (test === "capture") captures.push({ text, from: "query" });
  }
  return captures;
}

const low = (text) => (table.fold ? lower(text) : text);
const decoded = ({ text, from }) => (from === "query" ? formDecode(text) : decode(text));

// --- Tests ------------------------------------------------------------------------------------

/** Something of the table by its name; throws where that is not known. */
function known(names, name) {
  if (Object.hasOwn(names, name)) return names[name];
  throw new Error(`edge.mjs: the table has something unknown: ${name}`);
}

/** Each set of accepted texts gives a function of a text, or of null for one that is not there. */
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
  any: () => (text) => text !== null,
  "one of": (list) => (text) => list.includes(text),
  "one of, folded": (list) => (text) => list.includes(lower(text)),
  contains: (part) => (text) => text !== null && text.includes(part),
};

/** Each kind of test gives a function of a visit, of captures and of the type of the answer. */
const TESTS = {
  capture: (slot, _, accepts) => (visit, captures) => accepts(decoded(captures[slot])),
  host: (_, hosts) => ({ host }) => hosts.includes(host),
  scheme: (_, wanted) => ({ scheme }) => scheme === wanted,
  role: (_, wanted) => ({ role }) => role === wanted,
  method: (_, list) => ({ method }) => list.includes(method === "HEAD" ? "GET" : method),
  language: (name, list) => (visit) => list.includes(languageOf(visit.header(name) ?? "")),
  header: (name, _, accepts) => (visit) => accepts(visit.header(name)),
  cookie: (name, _, accepts) => (visit) =>
    cookies(visit).some(([other, value]) => other === name && accepts(value)),
  "file exists": () => ({ relative }) => relative !== null && named(relative) !== null,
  type: (_, ranges) => (visit, captures, type) =>
    ranges.some((range) => `${type};`.startsWith(`${range};`.replace("*;", ""))),
};

function readyTest([not, kind, of, accepted]) {
  const hasSet = kind === "capture" || kind === "header" || kind === "cookie";
  const [set, ...rest] = hasSet ? accepted : ["any"];
  const holds = known(TESTS, kind)(of, accepted, known(SETS, set)(...rest));
  const negated = known([false, true], not);
  const header = { cookie: "cookie", header: of, language: of }[kind];
  return { header, passes: (...asked) => holds(...asked) !== negated };
}

const cookies = (visit) =>
  (visit.header("cookie") ?? "").split(";").map((pair) => {
    const at = (pair + "=").indexOf("=");
    return [trim(pair.slice(0, at)), trim(pair.slice(at + 1))];
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
  if (typeof parts === "string") return parts;
  const texts = parts.map((part) => (typeof part === "string" ? part : into(captures[part])));
  return texts.includes(null) ? null : texts.join("");
}

function putPath(parts, captures) {
  const path = put(parts, captures, intoPath)?.replace(/^\/*/, "/");
  return typeof parts === "string" ? path : normalize(path ?? "")?.replace(/^\/*/, "/") ?? null;
}

/** Where a redirect leads; null where a capture cannot stand in it. */
function expand({ to, query: wanted, drop }, captures, [scheme, home], query) {
  const label = to.label === undefined ? "" : intoLabel(captures[to.label]);
  const host = to.label === undefined ? (to.host ?? home) : `${label}.${to.host}`;
  const path = putPath(to.path, captures);
  const fragment = to.fragment === undefined ? null : put(to.fragment, captures, intoPath);
  const impossible = to.fragment !== undefined && fragment === null;
  if (label === null || path === null || impossible || (label && host.length > 253)) return null;
  const own = to.query === undefined ? null : put(to.query, captures, intoQuery);
  const keys = [...(wanted ?? []).map(([key]) => key), ...parameters(own).map(({ key }) => key)];
  const carried = drop ? [] : parameters(query).filter(({ key }) => !keys.includes(key));
  const parts = [own ?? "", ...carried.map(({ part }) => part)].filter((part) => part !== "");
  return {
    scheme: to.scheme ?? scheme, host, port: to.port, fragment,
    path: to.host === undefined ? below(path) : path,
    query: own === null && parts.length === 0 ? null : parts.join("&"),
  };
}

/** A path below the base path as a whole path. */
const below = (path) => table.base.slice(0, -1) + path;

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
  let found = exact(path);
  if (found === undefined) {
    found = folded(path);
    if (found?.gets === SERVES && table.tidy) found = { file: found.file, gets: MOVED };
  }
  if (found !== undefined) return found.gets === SERVES || found.gets === MOVED ? found : null;
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

/** Adds the numbers of rules that could match a path. */
function look({ literal, valued, root }, path, visit, found) {
  const add = (list) => found.push(...(list ?? []));
  add(own(literal, path));
  for (const { key, sent } of visit.parameters)
    add(own(valued, `${path}\n${key}\n${formDecode(sent)}`));
  for (const open = [[root, 0]]; open.length > 0; ) {
    const [[ends, texts = {}, around = [], tails = []], at] = open.pop();
    const isEnd = at === path.length;
    if (isEnd) add(ends);
    for (const [slash, lead, end, map] of tails) {
      const from = at + slash;
      if ((slash && path[at] !== "/") || path.length - from < lead + end) continue;
      add(own(map, `${path.slice(from, from + lead)}\n${path.slice(path.length - end)}`));
    }
    const [segment] = /[^/]*/y.exec(path.slice(at + 1));
    const go = (node) => node && !isEnd && open.push([node, at + 1 + segment.length]);
    go(own(texts, segment));
    for (const [before, after, map] of around) {
      const ends = `${segment.slice(0, before)}\n${segment.slice(segment.length - after)}`;
      if (segment.length > before + after) go(own(map, ends));
    }
  }
}

/** The numbers of the rules of a stage that could match, in the order of the file. */
function candidates({ plain, index: { relative, hosts, labels } }, visit) {
  const found = [];
  const lookIn = (index, path) => index && look(index, low(path), visit, found);
  if (visit.relative !== null) {
    found.push(...(plain.get(low(visit.relative)) ?? []));
    lookIn(relative, visit.relative);
  }
  lookIn(own(hosts, visit.host), visit.path);
  if (visit.role === "preview") lookIn(own(hosts, table.host), visit.path);
  lookIn(own(labels, visit.rest), visit.path);
  return found.sort((one, two) => one - two).filter((number, at) => number !== found[at - 1]);
}

// --- The decision -----------------------------------------------------------------------------

/** What follows a base path, with its first `/`: "" for the base path without one, null outside. */
function after(path, base) {
  const length = base.length - 1;
  const rest = path.slice(length);
  const inside = low(path.slice(0, length)) === low(base.slice(0, -1));
  return inside && /^(\/|$)/.test(rest) ? rest : null;
}

const restOf = (host) => /\.(.*)/.exec(host)?.[1] ?? null;
const settingsOf = (host) => own(table.hosts, host) ?? own(table.hosts, "*." + restOf(host));

/** A request as the rules see it; null for a host that is not the site's. */
function locate(method, header, { scheme, host, port, path, query }) {
  const settings = port ? undefined : settingsOf(host);
  if (settings === undefined) return null;
  const [role, base] = settings.find(([, base]) => after(path, base) !== null) ?? settings[0];
  const tail = after(path, base);
  const place = { role, relative: tail === "" ? null : tail, noSlash: tail === "" };
  const read = { rest: restOf(host), parameters: parameters(query) };
  return { method, header, scheme, host, path, query, ...read, ...place };
}

/** A rule of a stage. Of redirects from path to path there may be very many: made when met. */
function ruleOf({ rules }, number) {
  if (Array.isArray(rules[number])) {
    const [path, to, status] = rules[number];
    rules[number] = { path, do: "redirect", to: { path: to }, status, plain: [], onHeaders: [] };
  }
  return rules[number];
}

/** The first rule of a stage that matches, whose tests pass, and whose `effect` is not null. */
function first(stage, visit, context, effect, type) {
  if (stage.rules.length === 0) return null;
  for (const number of candidates(stage, visit)) {
    const rule = ruleOf(stage, number);
    const captures = matchRule(rule, visit);
    const ask = (tests) => tests.every(({ passes }) => passes(visit, captures, type));
    if (captures === null || !ask(rule.plain)) continue;
    // On another origin, what the browser's next request need not carry is not known.
    const bound = context.otherOrigin ? table.originBound : [];
    const here = rule.onHeaders.filter(({ header }) => !bound.includes(header));
    const stops = here.length < rule.onHeaders.length;
    const acts = stops ? true : effect(rule, captures);
    if (acts === null) continue;
    for (const { header } of here) context.vary.add(header);
    if (!ask(here)) continue;
    if (stops) context.stopped = true;
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
  if (visit.role === "preview" && rule.to.host !== undefined && !to.port) {
    const bases = (own(table.hosts, to.host) ?? []).filter(([role]) => role !== "preview");
    const path = bases.map(([, base]) => after(to.path, base)).find((rest) => rest !== null);
    const { scheme, host } = visit;
    if (path !== undefined) Object.assign(to, { scheme, host, path: below(path || "/") });
  }
  return withoutFragment(to) === withoutFragment(visit) ? null : to;
}

const isSafe = (method) => method === "GET" || method === "HEAD";

/** A redirect; `kept` says for how long it may be cached. */
const redirect = (location, status, kept) =>
  ({ outcome: "redirect", status, file: null, location, kept });
const canonicalTo = ({ method }, location) =>
  redirect(location, isSafe(method) ? 301 : 308, "canonical");

/** What the rules, then the canonical URL, say: a redirect, { does }, or null. */
function hop(visit, context) {
  const acted = first(table.redirects, visit, context, (rule, captures) => {
    if (rule.do !== "redirect") return { does: rule.do };
    const to = redirectTo(rule, captures, visit);
    const permanent = rule.status === 301 || rule.status === 308;
    return to === null ? null : redirect(to, rule.status, permanent ? "rule" : "not");
  });
  return acted ?? (context.stopped ? null : canonical(visit, context));
}

function canonical(visit, context) {
  const path = visit.noSlash ? "/" : visit.relative;
  if (path === null) return null;
  const [scheme, host] = home(visit);
  const place = { path: below(path), relative: path, noSlash: false };
  const there = { ...visit, scheme, host, rest: restOf(host), ...place };
  const away = scheme !== visit.scheme || host !== visit.host;
  const found = named(path);
  const variant = found?.gets === MOVED && !isRewritten(there, away, context);
  if (!away && there.path === visit.path && !variant) return null;
  const own = variant ? below(table.files[found.file][1]) : there.path;
  return canonicalTo(visit, { scheme, host, path: own, query: visit.query, fragment: null });
}

/** Whether a rewrite takes a URL, or could, by a header that is not known on its origin. */
function isRewritten(there, away, context) {
  const role = there.role === "alias" ? "canonical" : there.role;
  const asking = { vary: context.vary, otherOrigin: context.otherOrigin || away };
  return first(table.rewrites, { ...there, role }, asking, rewrite) !== null || asking.stopped;
}

/** Applies `hop` to its own outcome, as the browser's next requests would. */
function oneHop(decision, visit, url, context) {
  for (const passed = [withoutFragment(url)]; ; ) {
    const current = decision.location;
    if (passed.includes(withoutFragment(current)) || passed.length > MAX_REDIRECTS_JOINED)
      return { outcome: "loop", status: 508, file: null };
    const next = locate(visit.method, visit.header, current);
    if (next === null) return decision;
    context.otherOrigin ||= next.scheme !== visit.scheme || next.host !== visit.host;
    const further = hop(next, context);
    const to = further?.location;
    if (!to || withoutFragment(to).length > MAX_URL_BYTES) return decision;
    const rank = ["canonical", "rule", "not"];
    const outranks = rank.indexOf(further.kept) > rank.indexOf(decision.kept);
    const { status, kept } = outranks ? further : decision;
    const fragment = to.fragment ?? current.fragment;
    decision = redirect({ ...to, fragment }, status, kept);
    passed.push(withoutFragment(current));
  }
}

function rewrite({ to }, captures) {
  const path = putPath(to.path, captures);
  return path === null ? null : { file: anyFile(path) };
}

/** The file that a fallback or a 404 page shows. */
const shown = (rule, captures) => rewrite(rule, captures)?.file ?? null;

function fileDecision(visit, context) {
  if (visit.relative === null) return { outcome: "outside", status: 404, file: null };
  if (!isSafe(visit.method)) return { outcome: "refused", status: 405, file: null };
  const rewritten = first(table.rewrites, visit, context, rewrite);
  const found = rewritten === null ? named(visit.relative) : null;
  const isFile = typeOf(visit.relative) !== undefined;
  const file = (found?.gets === SERVES ? found.file : rewritten?.file) ??
    first(table.fallbacks, visit, context, (rule, captures) =>
      isFile && rule.do === "fallback" ? null : shown(rule, captures));
  if (file !== null) return { outcome: "file", status: 200, file };
  return { outcome: "missing", status: 404, file: missingPage(visit, context) };
}

const missingPage = (visit, context) =>
  first(table.missing, visit, context, shown) ?? (table.lost === null ? null : anyFile(table.lost));

function decision(visit, url, context) {
  const inside = visit.noSlash || visit.relative !== null;
  if (table.hsts?.subdomains && visit.scheme === "http" && visit.role !== "preview" && inside)
    return canonicalTo(visit, { ...url, scheme: "https", fragment: null });
  const acted = hop(visit, context);
  const outcome = acted?.does;
  if (outcome === "gone") return { outcome, status: 410, file: missingPage(visit, context) };
  if (outcome === "elsewhere") return { outcome, status: null, file: null };
  if (acted === null) return fileDecision(visit, context);
  return table.oneHop && isSafe(visit.method) ? oneHop(acted, visit, url, context) : acted;
}

const ON = {
  served: (outcome) => outcome === "file",
  missing: (outcome) => outcome === "missing" || outcome === "gone",
  redirects: (outcome) => outcome === "redirect",
  all: () => true,
};

const OPS = {
  set: (headers, name, value) => [...OPS.drop(headers, name), [name, value]],
  add: (headers, name, value) => [...headers, [name, value]],
  drop: (headers, name) => headers.filter(([other]) => other !== name),
};

const TEXT = "text/plain; charset=utf-8";

/** The headers of an answer: what the rules say, then what is automatic. */
function headersOf({ outcome, status, file, location, kept }, visit, context) {
  let headers = [];
  const mine = outcome !== "elsewhere";
  const name = file === null ? null : table.files[file][0];
  const type = name === null ? TEXT : (typeOf(name) ?? "application/octet-stream");
  const add = (condition, name, value) => condition && (headers = OPS.add(headers, name, value));
  const set = (condition, name, value) => condition && (headers = OPS.set(headers, name, value));
  const fragment = location?.fragment ?? null;
  const to = location && withoutFragment(location) + (fragment === null ? "" : "#" + fragment);
  add(location, "location", to);
  add(status === 405, "allow", "GET, HEAD");
  add(mine, "content-type", type);
  const change = ([op, ...of]) => (headers = OPS[op](headers, ...of));
  const act = ({ on, ops }) => (ON[on](outcome) ? () => ops.forEach(change) : null);
  if (mine && outcome !== "outside") first(table.headers, visit, { vary: context.vary }, act, type);
  const page = /^(missing|gone|outside)$/.test(outcome) || /^text\/html/.test(type);
  const ages = { rule: "max-age=86400", canonical: "max-age=3600", not: "" };
  const cached = ages[kept] ?? (page ? "no-cache" : "");
  const has = headers.some(([name]) => name === "cache-control");
  add(mine && cached !== "" && !has, "cache-control", cached);
  set(mine && visit.role === "preview", "x-robots-tag", "noindex");
  const promised = table.hsts !== null && visit.scheme === "https" && visit.role !== "preview";
  set(mine && promised && outcome !== "outside", "strict-transport-security", table.hsts?.value);
  const stated = headers.filter(([name]) => name === "vary").map(([, value]) => value).join();
  const names = stated.split(",").map(trim).filter((name) => name !== "");
  for (const name of table.requestHeaders.filter((name) => context.vary.has(name)))
    if (!names.some((other) => other === "*" || lower(other) === name)) names.push(name);
  set(context.vary.size > 0, "vary", names.join(", "));
  return headers;
}

export function decide({ method, scheme, host, target, headers }) {
  const only = { outcome: "refused", file: null, headers: [["content-type", TEXT]] };
  const refused = (status) => ({ status, ...only });
  const lines = new Map();
  for (const [name, value] of headers ?? [])
    lines.set(lower(name), [...(lines.get(lower(name)) ?? []), trim(value)]);
  const header = (name) => lines.get(name)?.join(name === "cookie" ? "; " : ", ") ?? null;
  const url = urlOf(scheme, host, target);
  const [other = host, more] = lines.get("host") ?? [];
  if (url === null || more !== undefined || hostOf(other) !== url.host) return refused(400);
  if (withoutFragment(url).length > MAX_URL_BYTES) return refused(414);
  const visit = locate(method, header, url);
  if (visit === null) return refused(421);
  const context = { vary: new Set() };
  const answer = decision(visit, url, context);
  const { outcome, status, file } = answer;
  const name = file === null ? null : table.files[file][0];
  return { outcome, status, file: name, headers: headersOf(answer, visit, context) };
}

export async function handle(request, file) {
  const { protocol, host } = new URL(request.url);
  // As it was sent: what follows the host, without the fragment.
  const sent = request.url.slice(request.url.indexOf("/", protocol.length + 2));
  const target = sent.replace(/#.*/s, "");
  const { method, headers } = request;
  const answer = decide({ method, scheme: protocol.slice(0, -1), host, target, headers });
  if (answer.outcome === "elsewhere") return undefined;
  const fields = new Headers();
  for (const [name, value] of answer.headers) fields.append(name, value);
  const body = answer.file === null ? table.bodies[answer.status] : (await file(answer.file)).body;
  return new Response(method === "HEAD" ? null : body, { status: answer.status, headers: fields });
}

export const site = () => `${table.scheme}://${table.host}${table.base}`;
export const hasHost = (host) => settingsOf(host) !== undefined;

// --- The table --------------------------------------------------------------------------------

/** What each stage can do. */
const STAGES = {
  redirects: { redirect: 1, gone: 1, elsewhere: 1 },
  rewrites: { rewrite: 1 },
  fallbacks: { fallback: 1, "fallback even files": 1 },
  missing: { missing: 1 },
  headers: { headers: 1 },
};

/** Makes the table ready to be asked. */
function prepare({ stages, ...data }) {
  known({ [VERSION]: 1 }, data.version);
  for (const [role] of Object.values(data.hosts).flat())
    known({ canonical: 1, alias: 1, preview: 1 }, role);
  const ready = { ...data, types: new Map(data.types), addresses: new Map(), folded: new Map() };
  for (const [address, file, gets = SERVES] of data.addresses) {
    known([1, 1, 1], gets);
    ready.addresses.set(address, { file, gets });
    // Of those that differ only in case the first counts.
    if (!ready.folded.has(lower(address))) ready.folded.set(lower(address), { file, gets });
  }
  for (const stage of [...Object.keys(STAGES), ...Object.keys(stages)])
    ready[stage] = readyStage(known(stages, stage), known(STAGES, stage));
  return ready;
}

function readyStage({ rules, index }, does) {
  const plain = new Map();
  const ready = (rule, number) => {
    if (!Array.isArray(rule)) return readyRule(rule, does);
    known({ "string,string,number": does.redirect }, rule.map((part) => typeof part).join());
    plain.set(rule[0], [...(plain.get(rule[0]) ?? []), number]);
    return rule;
  };
  return { rules: rules.map(ready), index, plain };
}

function readyRule(rule, does) {
  known(does, rule.do);
  if (rule.do === "headers") known(ON, rule.on);
  for (const [op] of rule.ops ?? []) known(OPS, op);
  for (const [, test] of rule.query ?? []) known({ present: 1, is: 1, capture: 1 }, test);
  const tests = (rule.tests ?? []).map(readyTest);
  const plain = tests.filter(({ header }) => header === undefined);
  const onHeaders = tests.filter(({ header }) => header !== undefined);
  return { ...rule, path: readyPath(rule.path), plain, onHeaders };
}

/** A template's text before its first expression, and what follows, a unit or a form each. */
function readyPath(path) {
  if (typeof path === "string") return path;
  const units = (part) =>
    typeof part === "string" ? part.match(/%..|[^]/g) : known([[0], [1], [2]], part);
  const prefix = typeof path[0] === "string" ? path[0] : "";
  return { prefix, ops: path.slice(prefix === "" ? 0 : 1).flatMap(units) };
}

const table = prepare(JSON.parse("TABLE"));
