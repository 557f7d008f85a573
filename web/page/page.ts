// The page of `kwind demo --web`: draws the harbour, steers a tug, shows what the network does.
import { connect, Predicted, ReplicatedWorld, WireError, type Client, type Ref, type Vec2, type WebTransportAddress } from "kestrel-wind";
import { Barge, Chart, Crate, Enter, Gull, Hail, Helm, Notice, Post, StandAt, Stroke, Tug, shore } from "../build/generated/shore.js";
import { sessionOver, socketOver } from "./path.js";
import { steer, ticksPerSecond } from "./steer.js";

const $ = <T extends HTMLElement>(id: string): T => document.getElementById(id) as T;
const sea = $<HTMLCanvasElement>("sea");
const sheet = $<HTMLCanvasElement>("sheet");
const path = { delay: 0, jitter: 0, loss: 0 };
const cargoColours = { none: "#7d8f8a", salt: "#f4f1e6", timber: "#b98a55", fish: "#9fc0d8" };
const inkColours = { none: "#e9e2cf", pencil: "#4a4a4a", red: "#b3402e" };

let client: Client | undefined;
let world: ReplicatedWorld | undefined;
let own: Predicted<Tug, Helm> | undefined;
let name = "";
let hasTug = false;
let place: Vec2 = { x: 0, y: 0 };
let helm: Helm = { rudder: 0, throttle: 0 };
const keys = new Set<string>();
let pointer: Vec2 | undefined;
let chart: Chart | undefined;
let cursor = { x: 32, y: 32 };
/** Where the own tug is drawn beside its predicted place, after a correction; it fades. */
let offset: Vec2 = { x: 0, y: 0 };
let worstError = 0;
let frameTime = 0;
const frames: number[] = [];

// ---- connection ----

async function play(): Promise<void> {
  const key = await (await fetch("/key", { cache: "no-store" })).text();
  const url = `${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/kwind`;
  const abort = new AbortController();
  const WebTransport = sessionOver(path);
  const made = await connect(url, {
    protocol: shore, key, WebSocket: socketOver(path), signal: abort.signal, longestRetry: 4000, timeout: 4000,
    webTransport: datagramAddress, ...(WebTransport && { WebTransport }),
    onState(state, error) {
      showState(state, error);
      if (state === "connected" && client) enter();
      // A server that was started anew may have another key.
      if (state === "waiting") void fetch("/key", { cache: "no-store" }).then((reply) => reply.text()).then((now) => {
        if (now === key) return;
        abort.abort();
        client?.close("another server");
        client = world = own = undefined;
        void retry();
      }).catch(() => {});
      if (state === "closed" && error && error.code !== "closed_here") setTimeout(() => void retry(), 1000);
    },
  });
  client = made;
  world = new ReplicatedWorld(made);
  world.accountBits();
  let before: Tug | undefined;
  world.onSnapshot(() => (before = own?.state));
  own = new Predicted(world, Tug, Helm, steer, (a, b) => Math.hypot(a.at.x - b.at.x, a.at.y - b.at.y) < 0.3 && Math.abs(a.speed - b.speed) < 0.2);
  world.onSnapshot(() => {
    if (!before || !own?.state || before === own.state) return;
    const error = { x: before.at.x - own.state.at.x, y: before.at.y - own.state.at.y };
    worstError = Math.max(worstError, Math.hypot(error.x, error.y));
    offset = { x: offset.x + error.x, y: offset.y + error.y };
  });
  made.on(Notice, ({ from, words }) => addNotice(from, words));
  world.onSpawn(Chart, (_, value) => drawSheet((chart = value)));
  world.onUpdate(Chart, (_, value) => drawSheet((chart = value)));
  enter();
}

/** Where the server takes WebTransport, if it does. A name may stand for two addresses, of which it has one. */
async function datagramAddress(): Promise<WebTransportAddress | undefined> {
  const reply = await fetch("/web-transport", { cache: "no-store" });
  if (!reply.ok) return undefined;
  const { port, path: at, certificateHashes } = await reply.json();
  const host = location.hostname === "localhost" ? "127.0.0.1" : location.hostname;
  return { url: `https://${host}:${port}${at}`, certificateHashes };
}

async function retry(): Promise<void> {
  for (let wait = 500; ; wait = Math.min(4000, wait * 2)) {
    try {
      return await play();
    } catch (error) {
      showState("waiting", error instanceof WireError ? error : undefined);
      await new Promise((resolve) => setTimeout(resolve, wait));
    }
  }
}

function enter(): void {
  if (name) client?.send(Enter, { name, tug: hasTug });
}

const words: Record<string, string> = {
  connecting: "connecting", connected: "connected", resuming: "the path broke; coming back", waiting: "no answer; trying again", closed: "closed",
};
function showState(state: string, error?: WireError): void {
  $("state").textContent = words[state]! + (error && state !== "connected" ? ` (${error.code})` : "");
}

// ---- what the visitor does ----

$<HTMLFormElement>("gate").addEventListener("submit", (event) => {
  event.preventDefault();
  name = $<HTMLInputElement>("name").value.trim() || "A visitor";
  hasTug = (event.submitter as HTMLButtonElement).value === "yes";
  $("gate").hidden = true;
  sea.focus();
  enter();
});
$<HTMLFormElement>("hail").addEventListener("submit", (event) => {
  event.preventDefault();
  const input = $<HTMLInputElement>("words");
  if (!input.value.trim()) return;
  try {
    client?.send(Hail, { words: input.value.trim() });
    input.value = "";
  } catch (error) {
    addNotice("not sent", error instanceof Error ? error.message : String(error));
  }
});
function addNotice(from: string, text: string): void {
  const item = document.createElement("li");
  const who = document.createElement("b");
  who.textContent = `${from}: `;
  item.append(who, text);
  $("notices").append(item);
  while ($("notices").children.length > 4) $("notices").firstChild!.remove();
}
for (const [button, panel] of [["show-chart", "chart"], ["show-network", "network"]] as const) {
  $(button).addEventListener("click", () => {
    const isShown = $(panel).hidden;
    $(panel).hidden = !isShown;
    $(button).setAttribute("aria-expanded", String(isShown));
  });
}
for (const id of ["delay", "jitter", "loss"] as const) {
  const input = $<HTMLInputElement>(id);
  const show = (): void => {
    path[id] = Number(input.value);
    input.parentElement!.querySelector("output")!.textContent = `${input.value} ${input.dataset.unit}`;
  };
  input.addEventListener("input", show);
  show();
}
const steering = new Set(["ArrowUp", "ArrowDown", "ArrowLeft", "ArrowRight", "w", "a", "s", "d"]);
addEventListener("keydown", (event) => {
  const target = event.target as HTMLElement;
  if (target.tagName === "INPUT" || target === sheet) return;
  if (event.key === "n") $("show-network").click();
  if (event.key === "c") $("show-chart").click();
  if (!steering.has(event.key)) return;
  keys.add(event.key);
  event.preventDefault();
});
addEventListener("keyup", (event) => keys.delete(event.key));
addEventListener("blur", () => keys.clear());
sea.addEventListener("pointerdown", (event) => {
  sea.setPointerCapture(event.pointerId);
  pointer = { x: event.clientX, y: event.clientY };
});
sea.addEventListener("pointermove", (event) => pointer && (pointer = { x: event.clientX, y: event.clientY }));
for (const end of ["pointerup", "pointercancel"] as const) sea.addEventListener(end, () => (pointer = undefined));

function readHelm(bearing: number): Helm {
  const held = (...names: string[]): boolean => names.some((each) => keys.has(each));
  if (pointer) {
    const [east, south] = [pointer.x - innerWidth / 2, pointer.y - innerHeight / 2];
    const wanted = (Math.atan2(east, -south) * 180) / Math.PI;
    let turn = (wanted - bearing + 540) % 360 - 180;
    turn = Math.max(-20, Math.min(20, turn));
    return { rudder: turn / 20, throttle: Math.min(100, Math.round(Math.hypot(east, south) / 2)) };
  }
  const rudder = (held("ArrowRight", "d") ? 1 : 0) - (held("ArrowLeft", "a") ? 1 : 0);
  return { rudder, throttle: held("ArrowUp", "w") ? 100 : held("ArrowDown", "s") ? 0 : Math.max(0, helm.throttle - 1) };
}

let tickTime = performance.now();
setInterval(() => {
  tickTime = performance.now();
  if (client?.connection !== "connected" || !world) return;
  if (hasTug && own?.state) {
    helm = readHelm(own.state.bearing);
    own.apply(helm);
  } else if (!hasTug) {
    const by = readHelm(0);
    const speed = pointer ? 0 : 6;
    const step = {
      x: (keys.has("ArrowUp") || keys.has("w") ? speed : 0) - (keys.has("ArrowDown") || keys.has("s") ? speed : 0),
      y: by.rudder * (pointer ? 0 : speed),
    };
    if (pointer) {
      step.x = (innerHeight / 2 - pointer.y) / 40;
      step.y = (pointer.x - innerWidth / 2) / 40;
    }
    if (step.x === 0 && step.y === 0) return;
    const within = (v: number): number => Math.max(-880, Math.min(880, v));
    place = { x: within(place.x + step.x), y: within(place.y + step.y) };
    try {
      client.send(StandAt, { at: place });
    } catch {
      // The next step says where.
    }
  }
}, 1000 / ticksPerSecond);

// ---- the chart ----

function drawSheet(value: Chart): void {
  const pen = sheet.getContext("2d")!;
  const cell = sheet.width / 64;
  pen.fillStyle = inkColours.none;
  pen.fillRect(0, 0, sheet.width, sheet.height);
  pen.strokeStyle = "#cfc6ac";
  for (let i = 0; i <= 64; i += 8) {
    pen.beginPath();
    pen.moveTo(i * cell, 0);
    pen.lineTo(i * cell, sheet.height);
    pen.moveTo(0, i * cell);
    pen.lineTo(sheet.width, i * cell);
    pen.stroke();
  }
  value.ink.cells.forEach((ink, i) => {
    if (ink === "none") return;
    pen.fillStyle = inkColours[ink];
    pen.fillRect((i % 64) * cell, Math.floor(i / 64) * cell, cell, cell);
  });
  if (document.activeElement === sheet) {
    pen.strokeStyle = "#1d6f6b";
    pen.strokeRect(cursor.x * cell, cursor.y * cell, cell, cell);
  }
}
function stroke(x: number, y: number): void {
  const ink = (document.querySelector("input[name=ink]:checked") as HTMLInputElement).value as Stroke["ink"];
  if (x < 0 || y < 0 || x > 63 || y > 63 || !chart || chart.ink.cells[y * 64 + x] === ink) return;
  try {
    client?.send(Stroke, { x, y, ink });
    chart.ink.cells[y * 64 + x] = ink;
    drawSheet(chart);
  } catch {
    // Too fast for the server: the next move draws on.
  }
}
const cellAt = (event: PointerEvent): void => {
  const box = sheet.getBoundingClientRect();
  stroke(Math.floor(((event.clientX - box.left) / box.width) * 64), Math.floor(((event.clientY - box.top) / box.height) * 64));
};
sheet.addEventListener("pointerdown", (event) => {
  sheet.setPointerCapture(event.pointerId);
  cellAt(event);
});
sheet.addEventListener("pointermove", (event) => event.buttons && cellAt(event));
sheet.addEventListener("keydown", (event) => {
  const [dx, dy] = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key] ?? [0, 0];
  cursor = { x: Math.max(0, Math.min(63, cursor.x + dx!)), y: Math.max(0, Math.min(63, cursor.y + dy!)) };
  if (event.key === " ") stroke(cursor.x, cursor.y);
  if (dx || dy || event.key === " ") event.preventDefault();
  if (chart) drawSheet(chart);
});
sheet.addEventListener("focus", () => chart && drawSheet(chart));

// ---- drawing ----

const pen = sea.getContext("2d")!;
function draw(now: number): void {
  requestAnimationFrame(draw);
  const begun = performance.now();
  const density = Math.min(2, devicePixelRatio);
  const [width, height] = [innerWidth, innerHeight];
  if (sea.width !== width * density || sea.height !== height * density) {
    sea.width = width * density;
    sea.height = height * density;
  }
  const raw = $<HTMLInputElement>("raw").checked;
  let eye = place;
  let mine: Tug | undefined;
  let mineRef: Ref<Tug> | undefined;
  if (world && hasTug && (mineRef = world.owned(Tug))) {
    const state = own?.state;
    if (raw || !state) {
      mine = world.get(mineRef);
    } else {
      // Between two of its own ticks the tug moves on along its bearing.
      const part = Math.min(1.5, ((now - tickTime) * ticksPerSecond) / 1000);
      const angle = (state.bearing * Math.PI) / 180;
      const ahead = (state.speed / ticksPerSecond) * Math.max(0, part);
      mine = { ...state, at: { x: state.at.x + Math.cos(angle) * ahead + offset.x, y: state.at.y + Math.sin(angle) * ahead + offset.y } };
      offset = { x: offset.x * 0.85, y: offset.y * 0.85 };
    }
    if (mine) eye = place = mine.at;
  }
  const scale = Math.max(1.4, Math.min(width, height) / 300);
  pen.setTransform(density, 0, 0, density, 0, 0);
  pen.fillStyle = "#14323c";
  pen.fillRect(0, 0, width, height);
  const east = (y: number): number => width / 2 + (y - eye.y) * scale;
  const south = (x: number): number => height / 2 - (x - eye.x) * scale;
  drawWater(eye, scale, width, height, east, south);
  if (world) drawEntities(now, raw, scale, east, south, mineRef);
  if (mine) drawTug(mine, east(mine.at.y), south(mine.at.x), scale, "#f2b56b", mine.name);
  frames.push(performance.now() - begun);
  if (frames.length > 120) frames.shift();
  frameTime = [...frames].sort((a, b) => a - b)[frames.length >> 1]!;
}

function drawWater(eye: Vec2, scale: number, width: number, height: number, east: (y: number) => number, south: (x: number) => number): void {
  pen.strokeStyle = "#1b404b";
  pen.lineWidth = 1;
  pen.beginPath();
  const first = (at: number, half: number): number => Math.ceil((at - half / scale) / 50) * 50;
  for (let y = first(eye.y, width / 2); east(y) < width; y += 50) {
    pen.moveTo(east(y), 0);
    pen.lineTo(east(y), height);
  }
  for (let x = first(eye.x, height / 2); south(x) > 0; x += 50) {
    pen.moveTo(0, south(x));
    pen.lineTo(width, south(x));
  }
  pen.stroke();
  pen.strokeStyle = "#8a7a55";
  pen.lineWidth = 4;
  pen.strokeRect(east(-880), south(880), 1760 * scale, 1760 * scale);
}

function drawEntities(now: number, raw: boolean, scale: number, east: (y: number) => number, south: (x: number) => number, mine: Ref | undefined): void {
  const each = <T extends { at: Vec2 }>(type: Parameters<ReplicatedWorld["each"]>[0], paint: (value: T, x: number, y: number, ref: Ref) => void): void => {
    const visit = (ref: Ref, value: any): void => paint(value, east(value.at.y), south(value.at.x), ref);
    if (raw) for (const { ref, value } of world!.all(type)) visit(ref, value);
    else world!.each(type, now, visit);
  };
  pen.fillStyle = "#6d7f74";
  each<Post>(Post, (_, x, y) => pen.fillRect(x - 2, y - 2, 4, 4));
  each<Crate>(Crate, (crate, x, y) => {
    pen.fillStyle = cargoColours[crate.cargo];
    pen.fillRect(x - 1.5 * scale, y - 1.5 * scale, 3 * scale, 3 * scale);
    if (!crate.afloat) return;
    pen.strokeStyle = "#79c6c0";
    pen.lineWidth = 1;
    pen.strokeRect(x - 2.2 * scale, y - 2.2 * scale, 4.4 * scale, 4.4 * scale);
  });
  each<Barge>(Barge, (barge, x, y) => {
    turned(x, y, barge.bearing, () => {
      pen.fillStyle = "#4f4a3c";
      pen.beginPath();
      pen.roundRect(-3 * scale, -9 * scale, 6 * scale, 18 * scale, 2 * scale);
      pen.fill();
      pen.fillStyle = cargoColours[barge.cargo];
      pen.fillRect(-2 * scale, -6 * scale, 4 * scale, (12 * scale * barge.load) / 100);
    });
  });
  each<Tug>(Tug, (tug, x, y, ref) => ref.id !== mine?.id && drawTug(tug, x, y, scale, "#79c6c0", tug.name.startsWith("Harbour tug") ? "" : tug.name));
  each<Gull>(Gull, (gull, x, y) => {
    turned(x, y, gull.bearing, () => {
      const wing = 2.2 * scale * (0.75 + 0.25 * Math.sin(now / 90 + gull.speed * 40));
      pen.strokeStyle = gull.hungry ? "#ffdf9a" : "#f2f5f3";
      pen.lineWidth = Math.max(1, scale * 0.6);
      pen.beginPath();
      pen.moveTo(-wing, scale);
      pen.lineTo(0, -scale);
      pen.lineTo(wing, scale);
      pen.stroke();
    });
  });
}

function drawTug(tug: Tug, x: number, y: number, scale: number, colour: string, label: string): void {
  turned(x, y, tug.bearing, () => {
    pen.fillStyle = "#dfe9e555";
    pen.beginPath();
    pen.moveTo(-2 * scale, 5 * scale);
    pen.lineTo(0, (5 + tug.speed) * scale);
    pen.lineTo(2 * scale, 5 * scale);
    pen.fill();
    pen.fillStyle = colour;
    pen.beginPath();
    pen.moveTo(0, -7 * scale);
    pen.quadraticCurveTo(4 * scale, -2 * scale, 3 * scale, 5 * scale);
    pen.lineTo(-3 * scale, 5 * scale);
    pen.quadraticCurveTo(-4 * scale, -2 * scale, 0, -7 * scale);
    pen.fill();
    pen.fillStyle = "#10222b";
    pen.fillRect(-1.6 * scale, -1 * scale, 3.2 * scale, 3.5 * scale);
  });
  if (!label) return;
  pen.font = "13px system-ui, sans-serif";
  pen.textAlign = "center";
  pen.fillStyle = "#e8efe9";
  pen.fillText(label, x, y - 10 * scale);
}
function turned(x: number, y: number, bearing: number, paint: () => void): void {
  pen.save();
  pen.translate(x, y);
  pen.rotate((bearing * Math.PI) / 180);
  paint();
  pen.restore();
}

// ---- figures ----

const seconds: { down: number; up: number }[] = [];
let last = { down: 0, up: 0, ticks: 0 };
let lastBits = new Map<string, number>();
setInterval(() => {
  const stats = client?.stats;
  if (!stats || !world) return;
  const down = stats.bytesReceived - last.down;
  const up = stats.bytesSent - last.up;
  // A new connection counts from 0.
  seconds.push({ down: Math.max(0, down), up: Math.max(0, up) });
  if (seconds.length > 60) seconds.shift();
  const ticks = Math.max(1, world.tick - last.ticks);
  last = { down: stats.bytesReceived, up: stats.bytesSent, ticks: world.tick };
  const bits = new Map(world.accountBits());
  const shares = [...bits].map(([field, all]) => [field, (all - (lastBits.get(field) ?? 0)) / ticks] as const);
  lastBits = bits;
  if ($("network").hidden) return;
  const ms = (ticksOf: number): string => `${Math.round((ticksOf * 1000) / ticksPerSecond)} ms`;
  const figures: [string, string][] = [
    ["round trip", `${stats.roundTrip.toFixed(0)} ms`], ["variation", `${stats.roundTripVariation.toFixed(0)} ms`],
    ["play-out", ms(world.playoutDelay)], ["jitter", ms(world.playoutJitter)],
    ["corrections", `${own?.corrections ?? 0}`], ["worst error", `${worstError.toFixed(2)} m`],
    ["down", `${down} B/s`], ["up", `${up} B/s`],
    ["in view", `${world.size}`], ["desyncs", `${world.counts.desyncs} of ${world.counts.digests}`],
    ["sent over", client?.transport === "web transport" ? "datagrams" : "web socket"], ["packets lost", `${stats.packetsLost}`],
    ["script/frame", `${frameTime.toFixed(1)} ms`], ["connections", `${stats.attempts}`],
  ];
  worstError *= 0.8;
  $("figures").innerHTML = figures.map(([term, value]) => `<dt>${term}</dt><dd>${value}</dd>`).join("");
  const most = Math.max(1, ...shares.map(([, share]) => share));
  $<HTMLTableElement>("fields").tBodies[0]!.innerHTML = shares.sort((a, b) => b[1] - a[1]).slice(0, 6).filter(([, share]) => share >= 0.05)
    .map(([field, share]) => `<tr><td>${field}<span class="bar" style="width:${(100 * share) / most}%"></span></td><td>${share.toFixed(1)}</td></tr>`).join("");
  drawRates();
}, 1000);

function drawRates(): void {
  const canvas = $<HTMLCanvasElement>("rates");
  const brush = canvas.getContext("2d")!;
  brush.clearRect(0, 0, canvas.width, canvas.height);
  const most = Math.max(200, ...seconds.flatMap(({ down, up }) => [down, up]));
  for (const [way, colour] of [["down", "#79c6c0"], ["up", "#f2b56b"]] as const) {
    brush.strokeStyle = colour;
    brush.lineWidth = 2;
    brush.beginPath();
    seconds.forEach((each, i) => {
      const [x, y] = [(i / 59) * canvas.width, canvas.height - 4 - (each[way] / most) * (canvas.height - 18)];
      if (i === 0) brush.moveTo(x, y);
      else brush.lineTo(x, y);
    });
    brush.stroke();
  }
  brush.fillStyle = "#a7bdbb";
  brush.font = "11px system-ui, sans-serif";
  brush.fillText(`${most} B/s`, 4, 11);
}

// For tests of the page.
Object.assign(globalThis, { harbour: () => ({ client, world, own, frameTime }) });
requestAnimationFrame(draw);
void retry();
