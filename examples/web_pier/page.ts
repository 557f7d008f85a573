// Walks on the pier with the arrow keys, says things, draws everybody.
import { connect, ReplicatedWorld } from "kestrel-wind";
import { pier, Said, Say, Step, Walker } from "./pier.js";

const state = document.querySelector("#state")!;
const client = await connect(`${location.protocol === "https:" ? "wss" : "ws"}://${location.host}/kwind`, {
  protocol: pier,
  key: await (await fetch("key")).text(),
  onState: (now, error) => (state.textContent = error ? `${now}: ${error.message}` : now),
});
const world = new ReplicatedWorld(client);

client.on(Said, ({ who, words }) => {
  const line = document.createElement("li");
  line.textContent = `${who}: ${words}`;
  document.querySelector("ul")!.prepend(line);
});
document.querySelector("form")!.addEventListener("submit", (event) => {
  event.preventDefault();
  const input = document.querySelector("input")!;
  client.send(Say, { words: input.value });
  input.value = "";
});
addEventListener("keydown", ({ key }) => {
  const east = Number(key === "ArrowRight") - Number(key === "ArrowLeft");
  const north = Number(key === "ArrowUp") - Number(key === "ArrowDown");
  if ((east || north) && client.connection === "connected") client.send(Step, { east, north });
});

const pen = document.querySelector("canvas")!.getContext("2d")!;
function draw(now: number): void {
  requestAnimationFrame(draw);
  pen.clearRect(0, 0, 640, 640);
  world.each(Walker, now, (ref, walker) => {
    const [x, y] = [walker.at.x * 10, 640 - walker.at.y * 10];
    pen.fillStyle = world.owns(ref) ? "#f2b56b" : "#10222b";
    pen.beginPath();
    pen.arc(x, y, 9, 0, 7);
    pen.fill();
    pen.fillText(walker.name, x + 12, y + 4);
  });
}
requestAnimationFrame(draw);
