"use strict";

// ---------------------------------------------------------------- sending

function shown(element, words) {
  element.textContent = words;
  element.hidden = !words;
}

async function post(form, kind) {
  const data = new FormData(form);
  if (kind) data.set("kind", kind);
  return fetch("/send", { method: "POST", body: data, headers: { Accept: "application/json" } });
}

async function reasonOf(response) {
  const page = new DOMParser().parseFromString(await response.text(), "text/html");
  const said = page.querySelector(".refused");
  return said ? said.textContent : `refused (${response.status})`;
}

function prepareSending(form) {
  const [drop, input, chosen] = ["drop", "files", "chosen"].map((id) => document.getElementById(id));
  const [check, busy, refused, findings] = ["check", "busy", "refused", "findings"].map((id) =>
    document.getElementById(id),
  );
  const buttons = form.querySelectorAll("button");
  const list = () => (chosen.textContent = [...input.files].map((file) => file.name).join(", "));
  check.hidden = false;
  input.addEventListener("change", list);
  for (const name of ["dragover", "dragleave", "drop"]) {
    drop.addEventListener(name, (event) => {
      event.preventDefault();
      drop.classList.toggle("over", name === "dragover");
      if (name === "drop" && event.dataTransfer.files.length) {
        input.files = event.dataTransfer.files;
        list();
      }
    });
  }
  async function attempt(words, work) {
    shown(refused, "");
    findings.hidden = true;
    busy.textContent = words;
    for (const button of buttons) button.disabled = true;
    try {
      await work();
    } catch {
      shown(refused, "No answer from the service; nothing was sent. Try again.");
    } finally {
      busy.textContent = "";
      for (const button of buttons) button.disabled = false;
    }
  }
  check.addEventListener("click", () =>
    attempt("checking…", async () => {
      const response = await post(form, "check");
      if (!response.ok) return shown(refused, await reasonOf(response));
      findings.innerHTML = await response.text(); // made and escaped by the service
      findings.hidden = false;
    }),
  );
  form.addEventListener("submit", (event) => {
    event.preventDefault();
    attempt("sending…", async () => {
      const response = await post(form);
      if (!response.ok) return shown(refused, await reasonOf(response));
      location.assign((await response.json()).job);
    });
  });
}

// ---------------------------------------------------------------- watching

const SVG = "http://www.w3.org/2000/svg";
const [WIDTH, HEIGHT, LEFT, RIGHT, TOP, BOTTOM] = [960, 260, 14, 130, 16, 30];

function add(parent, name, attributes, words) {
  const element = document.createElementNS(SVG, name);
  for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
  if (words !== undefined) element.textContent = words;
  parent.append(element);
  return element;
}

function written(value, unit) {
  const digits = Math.abs(value) >= 1000 ? 0 : 2;
  const text = Math.abs(value).toLocaleString("en-GB", { maximumFractionDigits: digits });
  const sign = value < 0 ? "−" : "";
  return /^[£€$]$/.test(unit) ? sign + unit + text : sign + text + (unit ? ` ${unit}` : "");
}

// a line in steps: a value holds until the next one is found
function steps(points, column, x, y) {
  let path = "";
  for (const point of points) {
    if (point[column] === null) continue;
    const [a, b] = [x(point[0]).toFixed(1), y(point[column]).toFixed(1)];
    path += path ? `H${a}V${b}` : `M${a} ${b}`;
  }
  return path ? `${path}H${x(points[points.length - 1][0]).toFixed(1)}` : "";
}

function draw(figure, points, unit) {
  const values = points.flatMap((point) => point.slice(1)).filter((value) => value !== null);
  figure.hidden = points.length < 2 || !values.length;
  if (figure.hidden) return;
  let [low, high] = [Math.min(...values), Math.max(...values)];
  const room = (high - low || Math.abs(high) || 1) * 0.08;
  [low, high] = [low - room, high + room];
  const last = points[points.length - 1];
  const x = (seconds) => LEFT + ((WIDTH - LEFT - RIGHT) * seconds) / Math.max(last[0], 1e-9);
  const y = (value) => TOP + ((HEIGHT - TOP - BOTTOM) * (high - value)) / (high - low);
  figure.replaceChildren();
  const svg = add(figure, "svg", { viewBox: `0 0 ${WIDTH} ${HEIGHT}` });
  add(svg, "path", { class: "axis", d: `M${LEFT} ${HEIGHT - BOTTOM}H${WIDTH - RIGHT}` });
  add(svg, "text", { x: LEFT, y: HEIGHT - 10 }, "0 s");
  add(svg, "text", { x: WIDTH - RIGHT, y: HEIGHT - 10, "text-anchor": "end" }, `${Math.round(last[0])} s`);
  add(svg, "path", { class: "bound", d: steps(points, 2, x, y) });
  add(svg, "path", { class: "best", d: steps(points, 1, x, y) });
  const labels = [["best", last[1]], ["bound", last[2]]].filter(([, value]) => value !== null);
  const places = labels.map(([, value]) => y(value));
  if (places.length === 2 && Math.abs(places[0] - places[1]) < 34) {
    const [middle, up] = [(places[0] + places[1]) / 2, places[0] < places[1] ? -1 : 1];
    [places[0], places[1]] = [middle + 17 * up, middle - 17 * up];
  }
  labels.forEach(([name, value], k) => {
    const at = Math.min(Math.max(places[k], TOP + 4), HEIGHT - BOTTOM - 12);
    add(svg, "text", { x: WIDTH - RIGHT + 10, y: at }, name === "best" ? "best plan" : "no plan is better");
    add(svg, "text", { class: "value", x: WIDTH - RIGHT + 10, y: at + 15 }, written(value, unit));
  });
}

function fact([name, value, note]) {
  const card = document.createElement("div");
  card.className = "fact";
  for (const [tag, words] of [["span", name], ["b", value], ["span", note]]) {
    const part = document.createElement(tag);
    part.textContent = words;
    card.append(part);
  }
  return card;
}

function watch(live) {
  const chart = document.getElementById("chart");
  draw(chart, JSON.parse(live.dataset.points), live.dataset.unit);
  if (!["waiting", "running"].includes(live.dataset.state)) return;
  const look = async () => {
    try {
      const response = await fetch(`/jobs/${live.dataset.job}/now`);
      if (response.ok) {
        const job = await response.json();
        if (!["waiting", "running"].includes(job.state)) return location.reload();
        if (job.state !== live.dataset.state || job.verdict !== live.dataset.verdict) return location.reload();
        document.getElementById("name").textContent = job.model;
        document.getElementById("verdict").textContent = job.verdict || job.progress.said || "No progress reported yet.";
        document.getElementById("facts").replaceChildren(...job.facts.map(fact));
        draw(chart, job.progress.points, job.progress.unit || "");
      }
    } catch {
      document.getElementById("verdict").textContent = "No answer from the service. The job is safe; trying again.";
    }
    setTimeout(look, 1000);
  };
  setTimeout(look, 700);
}

const form = document.getElementById("send");
if (form) prepareSending(form);
const live = document.getElementById("live");
if (live) watch(live);
