// Adds requests as they come, narrows the list, and shows details beside it. Without it everything works by loading pages.
const log = document.getElementById("log");
const details = document.getElementById("details");
const search = document.getElementById("search");
const filter = document.getElementById("filter");
const MOST = 300;

const rows = () => [...log.children];
const isOpen = (row) => row.getAttribute("aria-expanded") === "true";
const parentOf = (row) => row.dataset.parent && document.getElementById(`r${row.dataset.parent}`);

/** What pages have loaded, by the number of the page. */
const assets = new Map();
const childrenOf = (row) => (assets.get(row.dataset.number) ?? []).filter((asset) => asset.isConnected);

/** The text of a row, as it is searched. */
const texts = new WeakMap();
const textOf = (row) => {
  if (!texts.has(row)) texts.set(row, row.textContent.toLowerCase());
  return texts.get(row);
};

const inOwnTime = (within) => {
  for (const time of within.querySelectorAll("time")) {
    time.textContent = new Date(time.dateTime).toLocaleTimeString([], { hour12: false });
  }
};

// --- What is shown ------------------------------------------------------------------------------

const choices = [...filter.querySelectorAll("select")];

/** Hides those of some rows that are not looked for, and assets of pages that are folded; what is looked for is never folded. */
const show = (some = rows()) => {
  const sought = search.value.trim().toLowerCase();
  const chosen = choices.filter(({ value }) => value !== "");
  const narrowed = sought !== "" || chosen.length > 0;
  for (const row of some) {
    const parent = parentOf(row);
    const isWanted = chosen.every(({ value, dataset }) => row.dataset[dataset.by] === value) && (sought === "" || textOf(row).includes(sought));
    const hidden = !isWanted || (!narrowed && parent !== null && parent !== undefined && parent !== "" && !isOpen(parent));
    if (row.hidden !== hidden) row.hidden = hidden;
  }
  const shown = narrowed ? rows().filter((row) => !row.hidden).length : 0;
  document.getElementById("count").textContent = narrowed ? `${shown} of ${log.children.length} are shown` : "";
  document.getElementById("waiting").hidden = log.children.length > 0;
  if (active()?.hidden) choose(null);
};

/** Offers the hosts and rules of some rows. */
const offer = (some = rows()) => {
  for (const select of choices.filter(({ dataset }) => dataset.by === "host" || dataset.by === "line")) {
    const known = new Set([...select.options].map(({ value }) => value));
    for (const row of some) {
      const value = row.dataset[select.dataset.by];
      if (value && !known.has(value)) select.add(new Option(value, value));
      known.add(value);
    }
  }
};

// --- One is chosen ------------------------------------------------------------------------------

const active = () => document.getElementById(log.getAttribute("aria-activedescendant"));

const choose = (row) => {
  active()?.setAttribute("aria-selected", "false");
  log.removeAttribute("aria-activedescendant");
  if (!row) return;
  row.setAttribute("aria-selected", "true");
  log.setAttribute("aria-activedescendant", row.id);
  row.scrollIntoView({ block: "nearest" });
};

const unfold = (row, open) => {
  if (!row.hasAttribute("aria-expanded")) return false;
  const changed = isOpen(row) !== open;
  row.setAttribute("aria-expanded", String(open));
  show();
  return changed;
};

const open = async (row) => {
  choose(row);
  const answer = await fetch(`/request/${row.dataset.number}?part=1`);
  details.innerHTML = answer.ok ? await answer.text() : "<p class=hint>This request is not kept any more.</p>";
  details.scrollTop = 0;
};

const step = (by) => {
  const shown = rows().filter((row) => !row.hidden);
  const at = shown.indexOf(active());
  choose(shown[at < 0 ? 0 : Math.min(Math.max(at + by, 0), shown.length - 1)]);
};

const KEYS = {
  ArrowDown: () => step(1),
  ArrowUp: () => step(-1),
  PageDown: () => step(10),
  PageUp: () => step(-10),
  Home: () => step(-Infinity),
  End: () => step(Infinity),
  ArrowRight: () => active() && (unfold(active(), true) || (childrenOf(active()).length > 0 && step(1))),
  ArrowLeft: () => active() && (unfold(active(), false) || (parentOf(active()) && choose(parentOf(active())))),
  Enter: async () => {
    if (!active()) return;
    await open(active());
    details.focus();
  },
};

log.addEventListener("keydown", (event) => {
  const act = event.ctrlKey || event.altKey || event.metaKey ? undefined : KEYS[event.key];
  if (act === undefined) return;
  event.preventDefault();
  act();
});
log.addEventListener("focus", () => active() ?? step(0));
log.addEventListener("click", (event) => {
  const row = event.target.closest("li");
  if (!row || event.ctrlKey || event.metaKey) return;
  event.preventDefault();
  if (event.target.closest(".assets")) unfold(row, !isOpen(row));
  open(row);
});
details.addEventListener("keydown", (event) => event.key === "Escape" && log.focus());
document.addEventListener("keydown", (event) => {
  if (event.key !== "/" || event.target.closest("input, select, textarea")) return;
  event.preventDefault();
  search.focus();
});
search.addEventListener("keydown", (event) => {
  if (event.key === "Escape") search.value = "";
  if (event.key === "Escape") show();
  if (event.key === "ArrowDown" || event.key === "Escape") log.focus();
});
filter.addEventListener("input", () => show());
filter.addEventListener("submit", (event) => {
  event.preventDefault();
  log.focus();
});
document.getElementById("clear").addEventListener("click", async () => {
  await fetch("/clear", { method: "POST" });
  log.replaceChildren();
  details.innerHTML = "<p class=hint>Choose a request to see why it was answered so.</p>";
  show();
});
document.addEventListener("click", async ({ target }) => {
  if (target.dataset?.copy === undefined) return;
  const said = target.textContent;
  try {
    await navigator.clipboard.writeText(target.dataset.copy);
    target.textContent = "Copied";
  } catch {
    target.textContent = "Not allowed to copy";
  }
  setTimeout(() => { target.textContent = said; }, 1500);
});

// --- Requests come ------------------------------------------------------------------------------

/** Puts a row where it belongs: the newest first, and an asset behind the others of its page. */
const place = (row, changed) => {
  const parent = parentOf(row);
  if (!parent) return log.prepend(row);
  const others = childrenOf(parent);
  (others.at(-1) ?? parent).after(row);
  assets.set(parent.dataset.number, [...others, row]);
  changed.add(parent);
};

/** Says how many assets a page has loaded. */
const count = (parent) => {
  const count = childrenOf(parent).length;
  if (!parent.hasAttribute("aria-expanded")) parent.setAttribute("aria-expanded", "false");
  let note = parent.querySelector(".assets");
  if (!note) {
    note = Object.assign(document.createElement("span"), { className: "assets" });
    parent.querySelector(".what").append(note);
  }
  note.textContent = ` + ${count} ${count === 1 ? "asset" : "assets"}`;
  texts.delete(parent);
};

/** What has come, and is drawn with the next frame: of very many requests only the last are. */
let waiting = [];
let isDue = false;

const draw = () => {
  isDue = false;
  const holder = document.createElement("template");
  holder.innerHTML = waiting.slice(-MOST).join("");
  waiting = [];
  const fresh = [...holder.content.children].filter((row) => document.getElementById(row.id) === null);
  inOwnTime(holder.content);
  const changed = new Set();
  for (const row of fresh) place(row, changed);
  changed.forEach(count);
  while (log.children.length > MOST) {
    assets.delete(log.lastElementChild.dataset.number);
    log.lastElementChild.remove();
  }
  const kept = fresh.filter((row) => row.isConnected);
  offer(kept);
  show([...kept, ...changed]);
};

const stream = new EventSource("/requests");
stream.onmessage = ({ data, lastEventId }) => {
  const [run] = lastEventId.split("-");
  // Another run of the server counts anew: earlier requests are dropped.
  if (run !== log.dataset.run) {
    log.replaceChildren();
    waiting = [];
  }
  log.dataset.run = run;
  waiting.push(data);
  if (waiting.length > 2 * MOST) waiting = waiting.slice(-MOST);
  if (isDue) return;
  isDue = true;
  // A page that nobody looks at has no frames.
  if (document.hidden) setTimeout(draw, 250);
  else requestAnimationFrame(draw);
};

for (const row of rows().reverse()) {
  const { parent } = row.dataset;
  if (parent) assets.set(parent, [...(assets.get(parent) ?? []), row]);
}
inOwnTime(log);
offer();
show();

// --- Asking, and the state of the site ----------------------------------------------------------

const form = document.getElementById("ask");
form.addEventListener("submit", async (event) => {
  event.preventDefault();
  const asked = new URLSearchParams(new FormData(form));
  asked.set("part", "1");
  const answer = await fetch(`/try?${asked}`);
  document.getElementById("answer").innerHTML = await answer.text();
});

// What is known of the site changes when its files do.
const state = document.getElementById("state");
setInterval(async () => {
  if (document.hidden) return;
  try {
    const text = await (await fetch("/state")).text();
    if (text !== state.dataset.last) {
      state.dataset.last = text;
      state.innerHTML = text;
    }
  } catch {
    // The server has ended; what is shown stays.
  }
}, 2000);
