// Adds requests as they come, narrows the list, and shows details beside it. Without it everything works by loading pages.
const log = document.getElementById("log");
const details = document.getElementById("details");
const search = document.getElementById("search");
const filter = document.getElementById("filter");
const MOST = 300;

const rows = () => [...log.children];
const isOpen = (row) => row.getAttribute("aria-expanded") === "true";
const parentOf = (row) => row.dataset.parent && document.getElementById(`r${row.dataset.parent}`);
const childrenOf = (row) => rows().filter((other) => other.dataset.parent === row.dataset.number);

const inOwnTime = (within) => {
  for (const time of within.querySelectorAll("time")) {
    time.textContent = new Date(time.dateTime).toLocaleTimeString([], { hour12: false });
  }
};

// --- What is shown ------------------------------------------------------------------------------

const choices = [...filter.querySelectorAll("select")];

/** Whether a row is what is looked for. */
const isWanted = (row) =>
  choices.every(({ value, dataset }) => value === "" || row.dataset[dataset.by] === value) &&
  row.textContent.toLowerCase().includes(search.value.trim().toLowerCase());

/** Hides what is not looked for, and assets of pages that are folded; what is looked for is never folded. */
const show = () => {
  const narrowed = search.value.trim() !== "" || choices.some(({ value }) => value !== "");
  let shown = 0;
  for (const row of rows()) {
    const parent = parentOf(row);
    row.hidden = !isWanted(row) || (!narrowed && parent !== null && parent !== undefined && parent !== "" && !isOpen(parent));
    if (!row.hidden) shown += 1;
  }
  document.getElementById("count").textContent = narrowed ? `${shown} of ${log.children.length} are shown` : "";
  document.getElementById("waiting").hidden = log.children.length > 0;
  if (active()?.hidden) choose(null);
};

/** Offers the hosts and rules that there are. */
const offer = () => {
  for (const select of choices.filter(({ dataset }) => dataset.by === "host" || dataset.by === "line")) {
    const known = new Set([...select.options].map(({ value }) => value));
    for (const row of rows()) {
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
filter.addEventListener("input", show);
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
const place = (row) => {
  const parent = parentOf(row);
  if (!parent) return log.prepend(row);
  const before = childrenOf(parent).at(-1) ?? parent;
  before.after(row);
  const count = childrenOf(parent).length;
  if (!parent.hasAttribute("aria-expanded")) parent.setAttribute("aria-expanded", "false");
  let note = parent.querySelector(".assets");
  if (!note) {
    note = Object.assign(document.createElement("span"), { className: "assets" });
    parent.querySelector(".what").append(note);
  }
  note.textContent = ` + ${count} ${count === 1 ? "asset" : "assets"}`;
};

const stream = new EventSource("/requests");
stream.onmessage = ({ data, lastEventId }) => {
  const [run] = lastEventId.split("-");
  // Another run of the server counts anew: earlier requests are dropped.
  if (run !== log.dataset.run) log.replaceChildren();
  log.dataset.run = run;
  const holder = document.createElement("template");
  holder.innerHTML = data;
  const row = holder.content.firstElementChild;
  if (document.getElementById(row.id)) return;
  inOwnTime(row);
  place(row);
  while (log.children.length > MOST) log.lastElementChild.remove();
  offer();
  show();
};

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
