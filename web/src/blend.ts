// Values between two values, for play-out.
import type { TypeInfo } from "./protocol.js";

export type Blend = (from: any, to: any, part: number) => any;
const straight: Blend = (from, to, part) => from + (to - from) * part;

function unit(made: any, from: any, to: any, part: number): any {
  const length = Math.hypot(...(Object.values(made) as number[]));
  if (length <= 1e-6) return part < 0.5 ? from : to;
  for (const key of Object.keys(made)) made[key] /= length;
  return made;
}

/** Values between two values; nothing for types that have no between. */
export function blendOf(type: TypeInfo): Blend | undefined {
  switch (type[0]) {
    case "int": return typeof type[1] === "bigint" ? undefined : (from, to, part) => Math.round(straight(from, to, part));
    case "real": case "f32": case "f64": return straight;
    case "angle":
      return (from, to, part) => {
        let way = (to - from) % 360;
        if (way > 180) way -= 360;
        if (way < -180) way += 360;
        const turned = (from + way * part) % 360;
        return turned < 0 ? turned + 360 : turned;
      };
    case "direction2":
      return (from, to, part) => unit({ x: straight(from.x, to.x, part), y: straight(from.y, to.y, part) }, from, to, part);
    case "direction3":
      return (from, to, part) =>
        unit({ x: straight(from.x, to.x, part), y: straight(from.y, to.y, part), z: straight(from.z, to.z, part) }, from, to, part);
    case "rotation":
      return (from, to, part) => {
        // Along the great circle (Shoemake 1985).
        let dot = from.w * to.w + from.x * to.x + from.y * to.y + from.z * to.z;
        const sign = dot < 0 ? -1 : 1;
        dot = Math.min(1, Math.abs(dot));
        const angle = Math.acos(dot);
        const sine = Math.sin(angle);
        const a = sine < 1e-6 ? 1 - part : Math.sin((1 - part) * angle) / sine;
        const b = (sine < 1e-6 ? part : Math.sin(part * angle) / sine) * sign;
        return { w: a * from.w + b * to.w, x: a * from.x + b * to.x, y: a * from.y + b * to.y, z: a * from.z + b * to.z };
      };
    case "vec": {
      const axis = blendOf(type[2]);
      if (!axis) return undefined;
      return (from, to, part) => {
        const made: any = { x: axis(from.x, to.x, part), y: axis(from.y, to.y, part) };
        if (type[1] === 3) made.z = axis(from.z, to.z, part);
        return made;
      };
    }
    case "record": {
      const parts = type[1].map((field) => [field.name, blendOf(field.type)] as const);
      return (from, to, part) => {
        const made = { ...from };
        for (const [name, blend] of parts) if (blend) made[name] = blend(from[name], to[name], part);
        return made;
      };
    }
    default: return undefined;
  }
}
