// Reads the frames of a datagram (docs/wire-format.md): the whole of it before any frame has an effect.
import { BitReader, bitsFor } from "./bits.js";
import { chunkBytes, maxMessageBytes, maxPerDatagram, type Channel } from "./channel.js";
import { fail } from "./errors.js";
import { printable } from "./text.js";

/** Names an unreliable or sequenced message: its datagram, and its place in it. */
export type Origin = [packet: number, place: number];

export interface FrameHandler {
  message(index: number, origin: Origin, number: number, payload: BitReader, bits: number): void;
  piece(index: number, origin: Origin, number: number, totalBits: number, first: number, chunks: number, bytes: Uint8Array): void;
  payload(payload: BitReader): void;
  close(code: number, text: string): void;
  window(index: number, low: number): void;
  challenge(bytes: Uint8Array): void;
  parity(index: number, low: number, others: number, lengths: number, payload: BitReader, bits: number): void;
}

/** Reads all frames of packet `packet`. Their effects are to be run only if none of them failed. */
export function readFrames(packet: number, reader: BitReader, channels: readonly Channel[], handler: FrameHandler): { asks: boolean; effects: (() => void)[] } {
  const channelBits = bitsFor(channels.length);
  const effects: (() => void)[] = [];
  const places = new Array<number>(channels.length).fill(0);
  const counts = new Array<number>(channels.length).fill(0);
  const follows = new Array<number>(channels.length).fill(-1);
  const channelOf = (): number => {
    const channel = reader.get(channelBits);
    if (channel >= channels.length) fail("unknown_channel", "a frame names a channel that the protocol does not have");
    return channel;
  };
  const counted = (channel: number): void => {
    if (++counts[channel]! > maxPerDatagram) fail("too_long", "too many messages of one channel in a datagram");
  };
  const originOf = (back: number): Origin => {
    const place = reader.count(0);
    if (back > packet || place >= maxPerDatagram) fail("value_range", "an origin that no datagram has");
    return [packet - back, place];
  };
  let asks = false;
  let ended = false;
  while (!ended && reader.left >= 3) {
    if (reader.bool()) {
      const index = channelOf();
      const channel = channels[index]!;
      let origin: Origin = [packet, 0];
      let number = 0;
      if (channel.info.delivery === "sequenced") {
        origin = reader.bool() ? [packet, places[index]!++] : originOf(reader.count(1) + 1);
      } else if (channel.isReliable) {
        number = reader.bool() ? follows[index]! : reader.get(16);
        if (number < 0) fail("value_range", "a number that follows none");
        follows[index] = (number + 1) & 0xffff;
      }
      const bits = reader.count(6);
      counted(index);
      const payload = reader.part(bits);
      asks = true;
      effects.push(() => handler.message(index, origin, number, payload, bits));
      continue;
    }
    switch (reader.get(2)) {
      case 0:
        if (reader.left + 3 >= 8) fail("trailing_bits", "bits are left over after the last frame");
        ended = true;
        break;
      case 1: {
        const index = channelOf();
        const channel = channels[index]!;
        let origin: Origin = [packet, 0];
        let number = 0;
        if (channel.isReliable) {
          number = reader.get(16);
        } else {
          const back = reader.count(1);
          origin = originOf(back);
          if (back === 0) places[index] = Math.max(places[index]!, origin[1] + 1);
        }
        const totalBits = reader.count(10);
        const first = reader.count(4);
        const chunks = reader.count(3) + 1;
        const size = (totalBits + 7) >>> 3;
        if (size > maxMessageBytes) fail("split_too_large", "the peer started a message beyond the stated limit");
        const all = Math.ceil(size / chunkBytes);
        if (first >= all || chunks > all - first) fail("bad_piece", "pieces of a message contradict each other");
        const bytes = reader.bytesOf(Math.min(chunks * chunkBytes, size - first * chunkBytes));
        counted(index);
        asks = true;
        effects.push(() => handler.piece(index, origin, number, totalBits, first, chunks, bytes));
        break;
      }
      case 2: {
        const bits = reader.count(6);
        const payload = reader.part(bits);
        asks = true;
        effects.push(() => handler.payload(payload));
        break;
      }
      default: {
        asks = true;
        switch (reader.get(3)) {
          case 0: break;
          case 1: {
            const code = reader.get(8);
            const length = reader.get(7);
            if (length > 96) fail("too_long", "a reason has at most 96 bytes");
            const text = printable(reader.bytesOf(length));
            effects.push(() => handler.close(code, text));
            break;
          }
          case 2: {
            const index = channelOf();
            if (!channels[index]!.isReliable) fail("unknown_channel", "a window of a channel without one");
            const low = reader.get(32);
            effects.push(() => handler.window(index, low));
            break;
          }
          case 3: {
            const bytes = reader.bytesOf(8);
            effects.push(() => handler.challenge(bytes));
            break;
          }
          case 4: reader.bytesOf(8); break;
          case 5:
            while (reader.left > 0) {
              if (reader.get(Math.min(32, reader.left)) !== 0) fail("trailing_bits", "padding is zeros");
            }
            break;
          case 6: {
            const index = channelOf();
            if (!channels[index]!.isReliable) fail("unknown_channel", "parity of a channel without numbers");
            const low = reader.get(16);
            const others = reader.get(4);
            const lengths = reader.get(12);
            const bits = reader.count(6);
            if (bits > 2048) fail("too_long", "parity is of small messages");
            const payload = reader.part(bits);
            effects.push(() => handler.parity(index, low, others, lengths, payload, bits));
            counted(index);
            break;
          }
          default: fail("unknown_frame", "a control frame is not in this link version");
        }
      }
    }
  }
  if (reader.left > 0 && reader.get(Math.min(reader.left, 7)) !== 0) fail("trailing_bits", "bits are left over after the last frame");
  return { asks, effects };
}
