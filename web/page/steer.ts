// How a tug moves in one tick: the steps of the server (examples/harbour/motion.h, tool/shore).
import type { Helm, Tug } from "../build/generated/shore.js";

export const ticksPerSecond = 20;
const size = 880;

export function steer(tug: Tug, helm: Helm): Tug {
  const speed = tug.speed + Math.max(-0.15, Math.min(0.15, (helm.throttle / 100) * 9 - tug.speed));
  let bearing = (tug.bearing + (30 * helm.rudder) / ticksPerSecond + 720) % 360;
  const angle = (bearing * Math.PI) / 180;
  const at = { x: tug.at.x + (Math.cos(angle) * speed) / ticksPerSecond, y: tug.at.y + (Math.sin(angle) * speed) / ticksPerSecond };
  if (Math.max(Math.abs(at.x), Math.abs(at.y)) > size) bearing = ((Math.atan2(-at.y, -at.x) * 180) / Math.PI + 360) % 360;
  return { ...tug, speed, bearing, at };
}
