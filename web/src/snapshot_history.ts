// The snapshots that arrived, and which of them the maker of each assumed delivered (docs/state-format.md).

/** Snapshots this far behind the newest are of no use. */
export const window = 64;
export const kept = 4 * window;

export interface Mark {
  snapshot: number;
  tick: number;
  start: number;
  base: number;
  /** Of the snapshots between, newest first: whether they were assumed delivered. */
  between: readonly boolean[];
  input: number;
}

export class SnapshotHistory {
  /** Number of the newest snapshot that was read; 0 before the first. */
  latest = 0;
  private readonly marks: (Mark | undefined)[] = new Array<Mark | undefined>(kept).fill(undefined);

  add(mark: Mark): void {
    this.marks[mark.snapshot % kept] = mark;
  }
  /** A full resync: nothing before it counts. */
  clear(): void {
    this.marks.fill(undefined);
    this.latest = 0;
  }
  markOf(snapshot: number): Mark | undefined {
    const mark = this.marks[snapshot % kept];
    return snapshot > 0 && mark?.snapshot === snapshot ? mark : undefined;
  }
  static between(base: Mark): number {
    return Math.min(base.snapshot - base.base - 1, window - 1);
  }
  /** Whether the maker of `mark` assumed a snapshot delivered. */
  assumedBy(mark: Mark, snapshot: number): boolean {
    let from = mark;
    while (from.base > 0 && snapshot <= from.base) {
      if (snapshot === from.base) return true;
      const base = this.markOf(from.base);
      if (!base) return false;
      if (snapshot > base.base) return from.between[from.base - 1 - snapshot] === true;
      from = base;
    }
    return false;
  }
  /** Every snapshot that the maker of `mark` assumed delivered, as far back as two windows and more. */
  allAssumed(mark: Mark): Set<number> {
    const found = new Set<number>();
    let from: Mark | undefined = mark;
    while (from && from.base > 0 && mark.snapshot - from.base <= 3 * window) {
      found.add(from.base);
      const base = this.markOf(from.base);
      if (!base) break;
      from.between.forEach((delivered, i) => delivered && found.add(from!.base - 1 - i));
      from = base;
    }
    return found;
  }
  isDiscarded(snapshot: number): boolean {
    if (this.latest > snapshot && this.latest - snapshot >= window) return true;
    const newest = this.markOf(this.latest);
    return newest !== undefined && snapshot <= newest.base && !this.assumedBy(newest, snapshot);
  }
  /** The oldest snapshot of which the bases of `mark` say whether it was assumed delivered. */
  oldestReported(mark: Mark): number {
    let from = mark;
    let oldest = mark.base;
    while (from.base > 0 && mark.base - from.base < window) {
      const base = this.markOf(from.base);
      if (!base) return oldest;
      oldest = base.base + 1;
      from = base;
    }
    return Math.max(1, oldest);
  }
}
