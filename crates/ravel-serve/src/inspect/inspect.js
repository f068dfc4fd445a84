// Adds requests as they come, and asks without leaving the page. Everything works without it, too, by loading the page again.
const log = document.getElementById("log");
const MOST = 300;

const inOwnTime = (within) => {
  for (const time of within.querySelectorAll("time")) {
    time.textContent = new Date(time.dateTime).toLocaleTimeString([], { hour12: false });
  }
};
inOwnTime(log);

const stream = new EventSource("/requests");
stream.onmessage = (event) => {
  const holder = document.createElement("template");
  holder.innerHTML = event.data;
  const record = holder.content.firstElementChild;
  if (log.querySelector(`[data-number="${record.dataset.number}"]`)) return;
  document.getElementById("waiting").hidden = true;
  inOwnTime(record);
  log.prepend(record);
  while (log.children.length > MOST) log.lastElementChild.remove();
};

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
