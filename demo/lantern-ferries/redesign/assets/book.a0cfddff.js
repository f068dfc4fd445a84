// The booking app: a true single-page app. It reads the address, draws the step, and moves with the history API.
const BASE = "/booking/";
const PORTS = ["Northquay", "Skerry", "Heronsea", "Mullan Point", "Tarn Isle"];
const app = document.getElementById("app");

const steps = [
  { path: /^$/, draw: route },
  { path: /^seat\/?$/, draw: () => seat(null) },
  { path: /^seat\/(\d{1,2}[A-D])\/?$/, draw: (match) => seat(match[1]) },
  { path: /^done\/(\d{1,2}[A-D])\/?$/, draw: (match) => done(match[1]) },
];

function show() {
  const rest = location.pathname.slice(BASE.length);
  for (const step of steps) {
    const match = rest.match(step.path);
    if (match) return step.draw(match);
  }
  page("No such step", `<p>The booking has no step called <code></code>.</p><p><a href="${BASE}">Begin again</a></p>`);
  app.querySelector("code").textContent = rest;
}

function page(title, html) {
  document.title = `${title} · Lantern Ferries`;
  app.innerHTML = `<h1>${title}</h1>${html}`;
}

function route() {
  const options = PORTS.map((port) => `<option>${port}</option>`).join("");
  page("Book a crossing", `<form class="panel">
    <label>From <select name="from">${options}</select></label>
    <label>To <select name="to">${options}</select></label>
    <button class="button">Choose a seat</button></form>`);
  app.querySelector("[name=to]").selectedIndex = 1;
  app.querySelector("form").addEventListener("submit", (event) => {
    event.preventDefault();
    go("seat");
  });
}

function seat(chosen) {
  const seats = [12, 13, 14, 15].flatMap((row) => ["A", "B", "C", "D"].map((letter) => `${row}${letter}`));
  const link = (name) => `<a href="${BASE}seat/${name}"${name === chosen ? ' aria-current="true"' : ""}>${name}</a>`;
  const next = chosen ? `<p><a class="button" href="${BASE}done/${chosen}">Take seat ${chosen}</a></p>` : "<p>Pick one.</p>";
  page(chosen ? `Seat ${chosen}` : "Choose a seat", `<div class="seats">${seats.map(link).join("")}</div>${next}`);
}

function done(chosen) {
  page("See you on board", `<p class="lead">Seat ${chosen} is yours. This is a demo: nobody was charged.</p>
    <p><a href="/">Back to the harbour</a></p>`);
}

function go(step) {
  history.pushState(null, "", BASE + step);
  show();
}

app.addEventListener("click", (event) => {
  const link = event.target.closest("a");
  if (link && link.pathname.startsWith(BASE) && !event.metaKey && !event.ctrlKey) {
    event.preventDefault();
    go(link.pathname.slice(BASE.length));
  }
});
addEventListener("popstate", show);
show();
