// What the site answers, decided by the table at the end of this file. It needs nothing but the language itself; `handle` uses the
// Fetch standard (URL, Headers, Response).
//
//   decide({ method, scheme, host, target, headers }) -> { outcome, status, file, headers }
//
// Paths, queries and hosts are brought to ASCII first, so that everything below compares text byte for byte.

const MOST_STEPS = 16; // redirects that are made into one
const LONGEST = 8192; // the longest address that a redirect leads to

// --- Text ------------------------------------------------------------------------------------------------------

const PATH_BYTE = /[A-Za-z0-9\-._~!$&'()*+,;=:@]/;
const UNRESERVED = /[A-Za-z0-9\-._~]/;
const GRAPHIC = /[!-~]/;

const lower = (text) => (/[A-Z]/.test(text) ? text.replace(/[A-Z]+/g, (letters) => letters.toLowerCase()) : text);

/** Percent-decodes to bytes, a character each; a broken escape stays as text. */
const decode = (text) =>
  text.includes("%") ? text.replace(/%([0-9A-Fa-f]{2})/g, (_, hex) => String.fromCharCode(parseInt(hex, 16))) : text;

/** Decodes a key or value as forms write it. */
const formDecode = (text) => decode(text.replaceAll("+", " "));

/** The bytes of a text in UTF-8, a character each. */
const bytesOf = (text) => decode(encodeURIComponent(text));

/** The text of bytes in UTF-8; null where they are none. */
function textOf(bytes) {
  try {
    return decodeURIComponent(bytes.replace(/[^A-Za-z0-9]/g, escape));
  } catch {
    return null;
  }
}

const escape = (byte) => "%" + byte.charCodeAt(0).toString(16).toUpperCase().padStart(2, "0");

/** Percent-encodes the bytes that `keep` does not match. */
function encode(bytes, keep) {
  let out = "";
  for (const byte of bytes) out += keep.test(byte) ? byte : escape(byte);
  return out;
}

// --- Addresses -------------------------------------------------------------------------------------------------

/** A path in its one spelling; null where it is none (RFC 3986, sections 5.2.4 and 6.2.2). */
function normalize(path) {
  if (!path.startsWith("/")) return null;
  if (/^[A-Za-z0-9\-._~!$&'()*+,;=:@/]*$/.test(path) && !path.includes("/.")) return path;
  if (/[\u0000-\u001f\u007f\\]/.test(path) || /%(?![0-9A-Fa-f]{2})/.test(path)) return null;
  const spelled = path.replace(/%[0-9A-Fa-f]{2}|[^/]/gu, (unit) => {
    const bytes = unit.length === 3 && unit[0] === "%" ? decode(unit) : bytesOf(unit);
    return encode(bytes, PATH_BYTE);
  });
  const out = [];
  const segments = spelled.slice(1).split("/");
  segments.forEach((segment, at) => {
    const dots = segment === "." || segment === "..";
    if (segment === "..") out.pop();
    if (!dots) out.push(segment);
    else if (at === segments.length - 1) out.push("");
  });
  return "/" + out.join("/");
}

const printable = (text) => (/^[!-~]*$/.test(text) ? text : encode(bytesOf(text), GRAPHIC));

/** A host in lower case without port and final dot; null where it is none. */
function hostOf(text) {
  const colon = text.lastIndexOf(":");
  const hasPort = colon >= 0 && !text.slice(colon).includes("]");
  const port = hasPort ? text.slice(colon + 1) : "";
  if (port !== "" && !(/^\+?[0-9]+$/.test(port) && Number(port) <= 65535)) return null;
  let name = hasPort ? text.slice(0, colon) : text;
  if (name.startsWith("[")) return /^\[[0-9A-Fa-f:.]+\]$/.test(name) ? lower(name) : null;
  if (name.endsWith(".")) name = name.slice(0, -1);
  if (/[^ -~]|xn--/i.test(name)) name = international(name);
  const host = lower(name);
  return host.length <= 253 && /^[a-z0-9_-]{1,63}(\.[a-z0-9_-]{1,63})*$/.test(host) ? host : null;
}

function international(name) {
  try {
    return new URL("http://" + name + "/").hostname;
  } catch {
    return "";
  }
}

function addressOf(scheme, hostText, sent) {
  const target = sent.replace(/[\ud800-\udfff]/gu, "\ufffd"); // halves of a character are none
  const host = hostOf(hostText);
  if (host === null || !target.startsWith("/")) return null;
  const hash = target.indexOf("#");
  const rest = hash < 0 ? target : target.slice(0, hash);
  const mark = rest.indexOf("?");
  const path = normalize(mark < 0 ? rest : rest.slice(0, mark));
  if (path === null) return null;
  const query = mark < 0 ? null : printable(rest.slice(mark + 1));
  const fragment = hash < 0 ? null : printable(target.slice(hash + 1));
  return { scheme, host, path, query, fragment };
}

const withoutFragment = ({ scheme, host, path, query }) => `${scheme}://${host}${path}${query === null ? "" : "?" + query}`;
const textOfAddress = (address) => withoutFragment(address) + (address.fragment === null ? "" : "#" + address.fragment);

const NONE = [];

/** The parameters of a query: each as it stands, its key, and its value (null without a `=`). */
function parameters(query) {
  if (query === null || query === "") return NONE;
  const parts = query.split("&").filter((part) => part !== "");
  return parts.map((part) => {
    const at = part.indexOf("=");
    return at < 0 ? [part, part, null] : [part, part.slice(0, at), part.slice(at + 1)];
  });
}

// --- Patterns --------------------------------------------------------------------------------------------------
//
// A path template is a text, or a list of texts and forms: 0 is one segment or a piece of one, 1 is anything, 2 is whole segments.
// The wide forms 1 and 2 cut it into chunks; the first place where a chunk fits is the right one, so that nothing is tried twice.

const SEGMENT = 0;
const SEGMENTS = 2;
const isWide = (part) => typeof part === "number" && part !== SEGMENT;

/** What a template captures of a path, as ranges; null where it does not match. */
function matchPath(template, path) {
  if (typeof template === "string") return template === path ? [] : null;
  const spans = [];
  let wide = null;
  let at = 0;
  for (let start = 0; ; ) {
    let end = start;
    while (end < template.length && !isWide(template[end])) end += 1;
    const chunk = template.slice(start, end);
    const next = end < template.length ? template[end] : null;
    const then = next === null ? "end" : next === SEGMENTS ? "boundary" : "";
    const fitted = wide === null ? fit(path, chunk, at, then, spans) : search(path, wide, chunk, at, then, spans);
    if (fitted < 0) return null;
    if (next === null) return spans;
    [at, wide, start] = [fitted, next, end + 1];
  }
}

/** The first start from `from` on where a chunk fits; what lies between is the wide form's. Gives the chunk's end, or -1. */
function search(path, wide, chunk, from, then, spans) {
  const mark = spans.length;
  spans.push([from, from]);
  for (let start = from; ; ) {
    start = nextStart(path, wide, chunk, start, then);
    if (start < 0) return -1;
    spans.length = mark + 1;
    spans[mark][1] = start;
    const end = fit(path, chunk, start, then, spans);
    if (end >= 0) return end;
    start = end === HERE ? afterUnit(path, start) : path.indexOf("/", start + 1);
    if (start < 0) return -1;
  }
}

function nextStart(path, wide, chunk, start, then) {
  const slash = () => {
    const at = path.indexOf("/", start);
    return at < 0 ? path.length : at;
  };
  const [first] = chunk;
  if (chunk.length === 0 && then === "end") return path.length;
  if (chunk.length === 1 && typeof first === "string" && then === "end") {
    const at = path.length - first.length;
    return at >= start ? at : -1;
  }
  if (typeof first === "string") return find(path, first, start, path.length);
  if (chunk.length === 0 && then === "boundary") return slash();
  return wide === SEGMENTS ? slash() : start;
}

const HERE = -1; // it does not fit at this start
const NOWHERE = -2; // it fits from no start in this segment

/** Fits a chunk at a start; gives its end, HERE or NOWHERE. */
function fit(path, chunk, start, then, spans) {
  let at = start;
  let number = 0;
  if (typeof chunk[0] === "string") {
    if (!standsAt(path, chunk[0], at)) return HERE;
    at += chunk[0].length;
    number = 1;
  }
  if (number === chunk.length) return holds(path, then, at) ? at : HERE;
  while (number < chunk.length) {
    const misfit = at === start ? HERE : NOWHERE;
    const least = afterUnit(path, at);
    if (least < 0 || path[at] === "/") return misfit;
    const nextSlash = path.indexOf("/", at);
    const slash = nextSlash < 0 ? path.length : nextSlash;
    const text = chunk[number + 1];
    let narrow = least;
    let end = least;
    if (text === undefined) {
      narrow = end = then === "" ? least : slash;
    } else if (typeof text === "string") {
      const last = number + 2 === chunk.length ? then : "";
      narrow = findBefore(path, text, least, slash, last);
      if (narrow < 0) return NOWHERE;
      end = narrow + text.length;
      number += 1;
    }
    number += 1;
    spans.push([at, narrow]);
    at = end;
  }
  return holds(path, then, at) ? at : NOWHERE;
}

/** The first place from `from` on, at most at `slash`, where a text stands and `then` holds behind it. */
function findBefore(path, text, from, slash, then) {
  if (then === "end") {
    const at = path.length - text.length;
    return at >= from && at <= slash && standsAt(path, text, at) ? at : -1;
  }
  const until = Math.min(slash + text.length, path.length);
  for (let start = from; ; ) {
    const at = find(path, text, start, until);
    if (at < 0 || at > slash) return -1;
    if (holds(path, then, at + text.length)) return at;
    start = at + 1;
  }
}

function find(path, text, from, until) {
  for (let at = path.indexOf(text, from); at >= 0 && at + text.length <= until; at = path.indexOf(text, at + 1)) {
    if (isUnitStart(path, at)) return at;
  }
  return -1;
}

const standsAt = (path, text, at) => path.startsWith(text, at) && isUnitStart(path, at);

/** A percent-encoded byte is one character: no piece begins inside it. */
const isUnitStart = (path, at) => path[at - 1] !== "%" && path[at - 2] !== "%";

function afterUnit(path, at) {
  if (at >= path.length) return -1;
  return path[at] === "%" ? Math.min(at + 3, path.length) : at + 1;
}

function holds(path, then, at) {
  if (then === "end") return at === path.length;
  return then === "" || at >= path.length || path[at] === "/";
}

/** What a rule's pattern captures of a request, as { text, from }; null where it does not match. */
function matchRule(rule, asked) {
  const captures = [];
  let path = asked.relative;
  if (rule.host !== undefined) {
    if (rule.scheme !== asked.scheme && !(rule.scheme === "https" && table.upgrades)) return null;
    if (rule.label) {
      const dot = asked.host.indexOf(".");
      if (dot < 0 || asked.host.slice(dot + 1) !== rule.host) return null;
      captures.push({ text: asked.host.slice(0, dot), from: "host" });
    } else if (rule.host !== asked.host && !(asked.role === "preview" && rule.host === table.host)) {
      return null;
    }
    path = asked.path;
  }
  if (path === null) return null;
  const spans = matchPath(rule.path, table.fold ? lower(path) : path);
  if (spans === null) return null;
  for (const [start, end] of spans) captures.push({ text: path.slice(start, end), from: "path" });
  for (const [key, test, wanted] of rule.query ?? []) {
    const values = asked.parameters.filter((parameter) => formDecode(parameter[1]) === key).map((parameter) => parameter[2] ?? "");
    if (test === "is" ? !values.some((value) => formDecode(value) === wanted) : values.length === 0) return null;
    if (test === "capture") {
      const text = values.find((value) => value !== "");
      if (text === undefined) return null;
      captures.push({ text, from: "query" });
    }
  }
  return captures;
}

// --- Conditions ------------------------------------------------------------------------------------------------

const decoded = ({ text, from }) => (from === "query" ? formDecode(text) : from === "path" ? decode(text) : text);

function captureHolds([slot, test, one, two], captures) {
  const text = decoded(captures[slot]);
  const folded = table.fold ? lower(text) : text;
  switch (test) {
    case "digits":
      return /^[0-9]*$/.test(text) && text.length >= one && (two === null || text.length <= two);
    case "in":
      return one.has(folded);
    case "out":
      return !one.has(folded);
    default:
      return accepts(one, text);
  }
}

/** Whether a table of states, a regular expression once, takes a whole text: one step a byte. */
function accepts({ classes, next, last }, text) {
  const width = next.length / last.length;
  let state = 0;
  for (let at = 0; at < text.length; at += 1) {
    state = next[state * width + classes[text.charCodeAt(at)]];
    if (state < 0) return false;
  }
  return last[state] === 1;
}

const ABOUT_HEADERS = new Set(["language", "cookie", "header"]);

function requestHolds([not, test, one, two, three], asked) {
  return whether(test, one, two, three, asked) !== not;
}

function whether(test, one, two, three, asked) {
  switch (test) {
    case "language":
      return one.includes(languageOf(asked.fields));
    case "cookie":
      return cookies(asked.fields).some(([name, value]) => name === one && (two === null || value === two));
    case "header":
      if (two === "is") return asked.fields(one).some((value) => value === three);
      if (two === "contains") return asked.fields(one).some((value) => value.includes(three));
      return asked.fields(one).length > 0;
    case "host":
      return one.includes(asked.host);
    case "scheme":
      return one === asked.scheme;
    case "method":
      return one.includes(asked.method) || (asked.method === "HEAD" && one.includes("GET"));
    case "preview":
      return asked.role === "preview";
    default:
      return asked.relative === null || named(asked.relative) === null;
  }
}

function cookies(fields) {
  return fields("cookie").flatMap((value) => value.split(";")).map((pair) => {
    const at = pair.indexOf("=");
    const value = at < 0 ? "" : pair.slice(at + 1).trim();
    const quoted = value.length > 1 && value.startsWith('"') && value.endsWith('"');
    return [(at < 0 ? pair : pair.slice(0, at)).trim(), quoted ? value.slice(1, -1) : value];
  });
}

/** Which of the site's languages the visitor gets (RFC 4647, section 3.4); the first, where none is asked for. */
function languageOf(fields) {
  const ranges = fields("accept-language").flatMap((value) => value.split(",")).map((item) => {
    const [range, ...rest] = item.split(";").map((part) => part.trim());
    const weight = rest.find((part) => /^q=/i.test(part));
    return [range, weight === undefined ? 1000 : thousandths(weight.slice(2))];
  });
  const wanted = ranges.filter(([range, weight]) => weight > 0 && range !== "" && range !== "*");
  wanted.sort((one, two) => two[1] - one[1]);
  for (let [range] of wanted) {
    for (range = lower(range); range !== null; range = shorter(range)) {
      const at = table.languages.indexOf(range);
      if (at >= 0) return at;
    }
  }
  return 0;
}

function thousandths(text) {
  if (!/^[+-]?([0-9]+\.?[0-9]*|\.[0-9]+)(e[+-]?[0-9]+)?$/i.test(text)) return 0;
  const weight = Math.fround(Number(text));
  return weight >= 0 && weight <= 1 ? Math.trunc(Math.fround(weight * 1000)) : 0;
}

/** A language range with its last subtag off; a single-letter subtag goes with the one behind it. */
function shorter(range) {
  const cut = range.lastIndexOf("-");
  if (cut < 0) return null;
  const rest = range.slice(0, cut);
  return rest.at(-2) === "-" ? rest.slice(0, -2) : rest;
}

// --- Targets ---------------------------------------------------------------------------------------------------
//
// A target's part is a text, or a list of texts and slots of captures.

function intoPath(capture) {
  if (capture.from !== "query") return capture.text;
  const text = textOf(decoded(capture));
  if (text === null || text === "." || text === ".." || /[\u0000-\u001f\u007f-\u009f]/.test(text)) return null;
  return encode(decoded(capture), PATH_BYTE);
}

const intoQuery = (capture) => (capture.from === "query" ? capture.text : encode(decoded(capture), UNRESERVED));

function intoLabel(capture) {
  const label = decoded(capture);
  return /^[A-Za-z0-9-]{1,63}$/.test(label) && !/^-|-$/.test(label) ? lower(label) : null;
}

function put(parts, captures, into) {
  if (typeof parts === "string") return parts;
  const texts = parts.map((part) => (typeof part === "string" ? part : into(captures[part])));
  return texts.includes(null) ? null : texts.join("");
}

function putPath(parts, captures) {
  const text = put(parts, captures, intoPath);
  if (text === null) return null;
  const path = text.replace(/^\/*/, "/");
  if (typeof parts === "string" || !path.includes("/.")) return path;
  const normal = normalize(path);
  return normal === null ? null : normal.replace(/^\/*/, "/");
}

/** Where a redirect leads; null where a capture can not stand in it. */
function expand(rule, captures, scheme, host, query) {
  const to = { scheme, host, path: "", query: null, fragment: null };
  if (rule.to.host !== undefined) {
    const label = rule.to.label === undefined ? "" : intoLabel(captures[rule.to.label]);
    if (label === null) return null;
    [to.scheme, to.host] = [rule.to.scheme, label === "" ? rule.to.host : `${label}.${rule.to.host}`];
  }
  const path = putPath(rule.to.path, captures);
  if (path === null) return null;
  to.path = rule.to.host === undefined ? table.base.slice(0, -1) + path : path;
  const own = rule.to.query === undefined ? null : put(rule.to.query, captures, intoQuery);
  const used = new Set([...(rule.query ?? []).map(([key]) => key), ...parameters(own).map(([, key]) => formDecode(key))]);
  const carried = parameters(query).filter(([, key]) => !used.has(formDecode(key))).map(([raw]) => raw);
  const parts = own === null ? carried : [own, ...carried];
  to.query = parts.length > 0 ? parts.join("&") : null;
  if (rule.to.fragment !== undefined) {
    to.fragment = put(rule.to.fragment, captures, intoPath);
    if (to.fragment === null) return null;
  }
  return to;
}

// --- Files -----------------------------------------------------------------------------------------------------

const SERVES = 0;
const MOVED = 1;

const exact = (path) => {
  const found = table.addresses.get(path);
  if (found !== undefined || !/%[89A-F]/.test(path) || path.includes("%2F")) return found;
  const text = textOf(decode(path));
  const composed = text?.normalize("NFC");
  return text === null || composed === text ? undefined : table.addresses.get(spell(composed));
};

const spell = (text) => bytesOf(text).replace(/[^/]/g, (byte) => encode(byte, PATH_BYTE));

const folded = (path) => (table.fold ? table.folded.get(lower(path)) : undefined);

/** The file that a path of a rule names, in any spelling; null for none. */
const anyFile = (path) => (exact(path) ?? folded(path))?.file ?? null;

/** What an address names: { file, gets }; null for nothing. */
function named(path) {
  let found = exact(path);
  if (found === undefined) {
    found = folded(path);
    if (found !== undefined && table.tidy && found.gets === SERVES) found = { file: found.file, gets: MOVED };
  }
  if (found !== undefined) return found.gets === SERVES || found.gets === MOVED ? found : null;
  const file = table.tidy && path.includes("//") ? anyFile(path.replace(/\/{2,}/g, "/")) : null;
  return file === null ? null : { file, gets: MOVED };
}

function typeOf(name) {
  const last = name.slice(name.lastIndexOf("/") + 1);
  const dot = last.lastIndexOf(".");
  return dot < 0 ? undefined : table.types.get(lower(last.slice(dot + 1)));
}

// --- The decision ----------------------------------------------------------------------------------------------

/** A request as the rules see it; null for a host of nobody. */
function locate(method, fields, address) {
  const dot = address.host.indexOf(".");
  const settings = table.hosts.get(address.host) ?? (dot < 0 ? undefined : table.hosts.get("*" + address.host.slice(dot)));
  if (settings === undefined) return null;
  let setting = settings[0];
  let [relative, noSlash] = [null, false];
  for (const candidate of settings) {
    const open = candidate.base.slice(0, -1);
    const rest = address.path.startsWith(open) ? address.path.slice(open.length) : null;
    if (rest === null || (rest !== "" && !rest.startsWith("/"))) continue;
    setting = candidate;
    [relative, noSlash] = rest === "" ? [null, true] : [rest, false];
    break;
  }
  const { scheme, host, path, query } = address;
  return { method, fields, scheme, host, path, query, parameters: parameters(query), role: setting.role, relative, noSlash };
}

/** The numbers of the rules that could match, in the order of the file. */
function candidates({ index }, asked) {
  let found = index.wide;
  let several = false;
  const add = (list) => {
    if (list === undefined) return;
    several ||= found.length > 0;
    found = found.length > 0 ? [...found, ...list] : list;
  };
  const look = ({ literal, asking, segment }, whole) => {
    const path = table.fold ? lower(whole) : whole;
    if (literal.size > 0) add(literal.get(path));
    if (segment.size > 0) add(segment.get(firstSegment(path)));
    if (asking.size === 0) return;
    for (const [, key, value] of asked.parameters) add(asking.get(`${path}\n${formDecode(key)}\n${formDecode(value ?? "")}`));
  };
  if (asked.relative !== null) look(index.relative, asked.relative);
  look(index.whole, asked.path);
  return several ? [...new Set(found)].sort((one, two) => one - two) : found;
}

function firstSegment(path) {
  const end = path.indexOf("/", 1);
  return end < 0 ? path : path.slice(0, end);
}

/** A rule of a stage. Of redirects from path to path there may be very many, so that each is made ready when it is met. */
function ruleOf(stage, number) {
  const rule = stage.rules[number];
  if (!Array.isArray(rule)) return rule;
  const [path, to, status] = rule;
  return (stage.rules[number] = { path: table.fold ? lower(path) : path, do: "redirect", to: { path: to }, status });
}

/** The first rule of a stage that matches, whose conditions hold, and for which `act` gives something. */
function first(stage, asked, looking, act) {
  if (stage.rules.length === 0) return null;
  for (const number of candidates(stage, asked)) {
    const rule = ruleOf(stage, number);
    const captures = matchRule(rule, asked);
    if (captures === null) continue;
    if (rule.where !== undefined && !rule.where.every((where) => captureHolds(where, captures))) continue;
    const whens = rule.when;
    if (whens === undefined) {
      const acted = act(rule, captures);
      if (acted !== null) return acted;
      continue;
    }
    if (!whens.every((when) => ABOUT_HEADERS.has(when[1]) || requestHolds(when, asked))) continue;
    if (looking.otherOrigin && whens.some(([, test, name]) => test === "cookie" || (test === "header" && name === "cookie"))) {
      looking.unknownCookie = true;
      return null;
    }
    for (const name of rule.vary ?? []) looking.vary.add(name);
    if (!whens.every((when) => !ABOUT_HEADERS.has(when[1]) || requestHolds(when, asked))) continue;
    const acted = act(rule, captures);
    if (acted !== null) return acted;
  }
  return null;
}

/** The origin that a visitor is kept on. */
function home(asked) {
  if (asked.role === "preview") return [asked.scheme, asked.host];
  return [table.upgrades ? "https" : asked.scheme, table.host];
}

function redirectTo(rule, captures, asked) {
  const to = expand(rule, captures, ...home(asked), rule.drop ? null : asked.query);
  if (to === null) return null;
  const own = rule.to.host !== undefined && table.own.has(to.host);
  if (asked.role === "preview" && own) [to.scheme, to.host] = [asked.scheme, asked.host];
  const same = to.scheme === asked.scheme && to.host === asked.host && to.path === asked.path && to.query === asked.query;
  return same ? null : to;
}

const isSafe = (method) => method === "GET" || method === "HEAD";
const canonicalStatus = (method) => (isSafe(method) ? 301 : 308);

/** What the rules, then the canonical address, say: a redirect, "gone", "elsewhere", or null. */
function hop(asked, looking) {
  const acted = first(table.redirects, asked, looking, (rule, captures) => {
    if (rule.do !== "redirect") return { does: rule.do };
    const to = redirectTo(rule, captures, asked);
    const kept = rule.status === 301 || rule.status === 308 ? "rule" : "not";
    return to === null ? null : { does: "redirect", to, status: rule.status, kept };
  });
  if (acted !== null) return acted;
  return looking.unknownCookie ? null : canonical(asked, looking);
}

function canonical(asked, looking) {
  const path = asked.noSlash ? "/" : asked.relative;
  if (path === null) return null;
  const [scheme, host] = home(asked);
  const full = table.base.slice(0, -1) + path;
  const moved = scheme !== asked.scheme || host !== asked.host || full !== asked.path;
  const found = named(path);
  const respelled = found?.gets === MOVED && !rewrites(asked, path, full, scheme, host, looking);
  if (!moved && !respelled) return null;
  const own = respelled ? table.base.slice(0, -1) + table.files[found.file][1] : full;
  const to = { scheme, host, path: own, query: asked.query, fragment: null };
  return { does: "redirect", to, status: canonicalStatus(asked.method), kept: "canonical" };
}

/** Whether a rewrite takes an address of the site once it is on this origin. */
function rewrites(asked, path, full, scheme, host, looking) {
  const role = asked.role === "alias" ? "canonical" : asked.role;
  const there = { ...asked, scheme, host, path: full, role, relative: path, noSlash: false };
  return first(table.rewrites, there, looking, () => true) !== null;
}

/** Applies `hop` to its own outcome, as the browser's next requests would. */
function oneHop(decision, asked, address, looking) {
  const passed = new Set([withoutFragment(address)]);
  for (;;) {
    const current = decision.location;
    const text = textOfAddress(current);
    if (passed.has(withoutFragment(current)) || text.length > LONGEST || passed.size > MOST_STEPS) {
      return { outcome: "loop", status: 508, file: null };
    }
    const next = locate(asked.method, asked.fields, current);
    if (next === null) return decision;
    looking.otherOrigin ||= next.scheme !== asked.scheme || next.host !== asked.host;
    const further = hop(next, looking);
    if (further?.does !== "redirect") return decision;
    const to = { ...further.to, fragment: further.to.fragment ?? current.fragment };
    const { kept } = decision;
    if ((kept === "canonical" && further.kept !== "canonical") || (kept === "rule" && further.kept === "not")) {
      [decision.status, decision.kept] = [further.status, further.kept];
    }
    passed.add(withoutFragment(current));
    decision.location = to;
  }
}

function fileDecision(asked, looking) {
  const path = asked.relative;
  if (path === null) return { outcome: "outside", status: 404, file: null };
  if (!isSafe(asked.method)) return { outcome: "refused", status: 405, file: null };
  const served = (file) => ({ outcome: "file", status: 200, file });
  const rewritten = first(table.rewrites, asked, looking, (rule, captures) => {
    const to = putPath(rule.to.path, captures);
    return to === null ? null : { file: anyFile(to) };
  });
  const found = rewritten === null ? named(path) : null;
  if (rewritten !== null && rewritten.file !== null) return served(rewritten.file);
  if (found?.gets === SERVES) return served(found.file);
  const fallback = first(table.fallbacks, asked, looking, (rule, captures) => {
    if (!rule.even && typeOf(path) !== undefined) return null;
    const to = putPath(rule.to.path, captures);
    return to === null ? null : anyFile(to);
  });
  if (fallback !== null) return served(fallback);
  return { outcome: "missing", status: 404, file: missingPage(asked, looking) };
}

function missingPage(asked, looking) {
  const byRule = first(table.missing, asked, looking, (rule, captures) => {
    const to = putPath(rule.to.path, captures);
    return to === null ? null : anyFile(to);
  });
  return byRule ?? (table.lost === null ? null : anyFile(table.lost));
}

function decision(asked, address, looking) {
  const { hsts } = table;
  if (hsts?.subdomains && asked.scheme === "http" && asked.role !== "preview") {
    const location = { scheme: "https", host: asked.host, path: asked.path, query: asked.query, fragment: null };
    return { outcome: "redirect", status: canonicalStatus(asked.method), file: null, location, kept: "canonical" };
  }
  const acted = hop(asked, looking);
  switch (acted?.does) {
    case "redirect": {
      const one = { outcome: "redirect", status: acted.status, file: null, location: acted.to, kept: acted.kept };
      return table.oneHop && isSafe(asked.method) ? oneHop(one, asked, address, looking) : one;
    }
    case "gone":
      return { outcome: "gone", status: 410, file: missingPage(asked, looking) };
    case "elsewhere":
      return { outcome: "elsewhere", status: 0, file: null };
    default:
      return fileDecision(asked, looking);
  }
}

const ON = {
  served: (outcome) => outcome === "file",
  missing: (outcome) => outcome === "missing" || outcome === "gone",
  redirects: (outcome) => outcome === "redirect",
  all: (outcome) => outcome !== "outside" && outcome !== "elsewhere",
};

/** The header fields of an answer: what the rules say, then what is automatic. */
function headersOf(answer, asked, looking) {
  let fields = [];
  const set = (name, value) => {
    fields = fields.filter(([other]) => other !== name);
    fields.push([name, value]);
  };
  if (answer.outcome === "elsewhere") return fields;
  if (answer.location) fields.push(["location", textOfAddress(answer.location)]);
  if (answer.status === 405) fields.push(["allow", "GET, HEAD"]);
  const name = answer.file === null ? null : table.files[answer.file][0];
  const type = name === null ? "text/plain; charset=utf-8" : (typeOf(name) ?? "application/octet-stream");
  fields.push(["content-type", type]);
  if (answer.outcome !== "outside") {
    const own = { vary: looking.vary, otherOrigin: false, unknownCookie: false };
    first(table.headers, asked, own, (rule) => {
      if (!ON[rule.on](answer.outcome)) return null;
      for (const [op, field, value] of rule.ops) {
        if (op === "set") set(field, value);
        else if (op === "add") fields.push([field, value]);
        else fields = fields.filter(([other]) => other !== field);
      }
      return null;
    });
  }
  if (!fields.some(([field]) => field === "cache-control")) {
    const kept = { rule: "max-age=86400", canonical: "max-age=3600" }[answer.kept];
    const page = answer.kept === undefined && name !== null && type.startsWith("text/html") ? "no-cache" : undefined;
    if (kept ?? page) fields.push(["cache-control", kept ?? page]);
  }
  if (asked.role === "preview") set("x-robots-tag", "noindex");
  else if (table.hsts !== null && asked.scheme === "https" && answer.outcome !== "outside") set("strict-transport-security", table.hsts.value);
  if (looking.vary.size > 0) {
    const names = fields.filter(([field]) => field === "vary").flatMap(([, value]) => value.split(",").map((name) => name.trim()));
    for (const at of [...looking.vary].sort((one, two) => one - two)) {
      const added = table.vary[at];
      if (!names.some((name) => name === "*" || lower(name) === added)) names.push(added);
    }
    set("vary", names.join(", "));
  }
  return fields;
}

/** Header fields as a function from a name in lower case to the values of that name. */
function fieldsOf(headers) {
  const all = new Map();
  for (const [name, value] of headers ?? []) {
    const key = lower(name);
    if (!all.has(key)) all.set(key, []);
    all.get(key).push(value.trim());
  }
  return (name) => all.get(name) ?? [];
}

/**
 * What a request gets. `scheme` is "http" or "https", `host` is what the `host` field says, `target` is the raw request target
 * ("/path?query"), `headers` is a list of pairs of name and value. `outcome` is one of file, redirect, gone, missing, outside, elsewhere (status
 * 0: another service answers), refused, loop; `file` is a name in the folder of files, or null; `headers` is a list of pairs.
 */
export function decide({ method, scheme, host, target, headers }) {
  const refused = (status) => ({ outcome: "refused", status, file: null, headers: [["content-type", "text/plain; charset=utf-8"]] });
  const address = addressOf(scheme, host, target);
  if (address === null) return refused(400);
  const asked = locate(method, fieldsOf(headers), address);
  if (asked === null) return refused(421);
  const looking = { vary: new Set(), otherOrigin: false, unknownCookie: false };
  const answer = decision(asked, address, looking);
  const file = answer.file === null ? null : table.files[answer.file][0];
  return { outcome: answer.outcome, status: answer.status, file, headers: headersOf(answer, asked, looking) };
}

const BODIES = {
  301: "This page has moved.\n",
  302: "This page has moved.\n",
  303: "This page has moved.\n",
  307: "This page has moved.\n",
  308: "This page has moved.\n",
  400: "This is no address.\n",
  404: "There is no such page.\n",
  405: "Only GET and HEAD are answered here.\n",
  410: "This page is gone.\n",
  421: "This host is not served here.\n",
  508: "The redirects of this address have no end.\n",
};

/**
 * Answers a Request with a Response; `file(name)` gives the Response of a built file, or a promise of it. Undefined where another
 * service is to answer.
 */
export async function handle(request, file) {
  const url = new URL(request.url);
  // As it was sent: what follows the host, without the fragment.
  const target = request.url.slice(request.url.indexOf("/", url.protocol.length + 2)).replace(/#.*/s, "");
  const { method, headers } = request;
  const answer = decide({ method, scheme: url.protocol.slice(0, -1), host: url.host, target, headers });
  if (answer.outcome === "elsewhere") return undefined;
  const fields = new Headers();
  for (const [name, value] of answer.headers) fields.append(name, value);
  const body = answer.file === null ? BODIES[answer.status] : (await file(answer.file)).body;
  return new Response(method === "HEAD" ? null : body, { status: answer.status, headers: fields });
}

/** The canonical origin and base path. */
export const site = () => `${table.scheme}://${table.host}${table.base}`;

/** Whether the site has this host. */
export const hasHost = (host) => table.hosts.has(host) || table.hosts.has("*" + host.slice(host.indexOf(".")));

// --- The table -------------------------------------------------------------------------------------------------

/** Makes the table ready to be asked: lists become maps, and rules are sorted by their paths. */
function prepare({ rules, ...data }) {
  const stages = {};
  for (const stage of ["redirects", "rewrites", "fallbacks", "missing", "headers"]) {
    const ready = rules[stage].map((rule) => (Array.isArray(rule) ? rule : readyRule(rule, data.fold)));
    stages[stage] = { rules: ready, index: indexOf(ready, data.fold) };
  }
  const hosts = new Map();
  for (const [host, role, base] of data.hosts) {
    if (!hosts.has(host)) hosts.set(host, []);
    hosts.get(host).push({ role, base });
  }
  for (const settings of hosts.values()) settings.sort((one, two) => two.base.length - one.base.length);
  const own = new Set(data.hosts.filter(([, role]) => role !== "preview").map(([host]) => host));
  const addresses = new Map(data.addresses.map(([address, file, gets]) => [address, { file, gets: gets ?? SERVES }]));
  const folded = new Map();
  if (data.fold) for (const [address, found] of addresses) if (!folded.has(lower(address))) folded.set(lower(address), found);
  return { ...data, ...stages, hosts, own, addresses, folded, types: new Map(data.types), languages: data.languages.map(lower) };
}

function readyRule(rule, fold) {
  const low = (text) => (fold ? lower(text) : text);
  const path = typeof rule.path === "string" ? low(rule.path) : rule.path.map((part) => (typeof part === "string" ? low(part) : part));
  const query = rule.query?.map(([key, test, wanted]) => [bytesOf(key), test, wanted === undefined ? undefined : bytesOf(wanted)]);
  const list = (values) => new Set(values.map((value) => low(bytesOf(value))));
  const where = rule.where?.map(([slot, test, one, two]) => [slot, test, test === "in" || test === "out" ? list(one) : one, two]);
  return { ...rule, path, query, where };
}

/** Rules by their paths: below the base path, and whole where a rule names a host. */
function indexOf(rules, fold) {
  const maps = () => ({ literal: new Map(), asking: new Map(), segment: new Map() });
  const index = { relative: maps(), whole: maps(), wide: [] };
  const add = (map, key, number) => {
    const list = map.get(key);
    if (list === undefined) map.set(key, [number]);
    else list.push(number);
  };
  rules.forEach((rule, number) => {
    if (Array.isArray(rule)) return add(index.relative.literal, fold ? lower(rule[0]) : rule[0], number);
    const { path, host, query } = rule;
    const { literal, asking, segment } = host === undefined ? index.relative : index.whole;
    if (typeof path === "string") {
      const asks = query?.find(([, test]) => test === "is");
      if (asks === undefined) add(literal, path, number);
      else add(asking, `${path}\n${asks[0]}\n${asks[2]}`, number);
      return;
    }
    const [start, next] = path;
    const closed = typeof start === "string" && (start.indexOf("/", 1) > 0 || next === SEGMENTS);
    if (closed && start !== "/") add(segment, firstSegment(start), number);
    else index.wide.push(number);
  });
  return index;
}

const table = prepare(JSON.parse("TABLE"));
