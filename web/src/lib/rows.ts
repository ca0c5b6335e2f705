/** The rows of a table whose items may stand in groups, each with a heading, in so many columns. */

export type Group = { name: string; count: number };
export type Row = { group: number } | { first: number; last: number };

/** Where things lie: which row is what, and where the keys lead. */
export class Rows {
  readonly count: number;
  readonly total: number;
  private readonly headed: boolean;
  /** of each group its first row and its first item */
  private readonly rowsAt: number[] = [];
  private readonly itemsAt: number[] = [];

  constructor(
    readonly groups: Group[] | null,
    total: number,
    readonly columns: number,
  ) {
    this.headed = groups !== null && groups.length > 0;
    let row = 0;
    let item = 0;
    for (const { count } of this.headed && groups ? groups : [{ count: total }]) {
      this.rowsAt.push(row);
      this.itemsAt.push(item);
      row += Math.ceil(count / columns) + Number(this.headed);
      item += count;
    }
    this.count = row;
    this.total = item;
    this.itemsAt.push(item);
  }

  /** A heading, or the first item of a row and the one after its last. */
  at(row: number): Row {
    const group = within(this.rowsAt, row);
    const inside = row - (this.rowsAt[group] ?? 0) - Number(this.headed);
    if (inside < 0) return { group };
    const first = (this.itemsAt[group] ?? 0) + inside * this.columns;
    return { first, last: Math.min(first + this.columns, this.itemsAt[group + 1] ?? this.total) };
  }

  isHeading(row: number): boolean {
    return this.headed && this.rowsAt[within(this.rowsAt, row)] === row;
  }

  /** The row and the column of an item. */
  of(item: number): { row: number; column: number } {
    const group = within(this.itemsAt.slice(0, -1), item);
    const inside = item - (this.itemsAt[group] ?? 0);
    return {
      row: (this.rowsAt[group] ?? 0) + Number(this.headed) + Math.floor(inside / this.columns),
      column: inside % this.columns,
    };
  }

  /** The first item of a group, and the one after its last. */
  spanOf(group: number): [number, number] {
    return [this.itemsAt[group] ?? 0, this.itemsAt[group + 1] ?? this.total];
  }

  /** The item after an arrow key, or null where the key is no movement. */
  move(key: string, item: number, page: number): number | null {
    if (this.total === 0) return null;
    switch (key) {
      case "ArrowLeft":
        return Math.max(0, item - 1);
      case "ArrowRight":
        return Math.min(this.total - 1, item + 1);
      case "ArrowUp":
        return this.down(item, -1);
      case "ArrowDown":
        return this.down(item, 1);
      case "PageUp":
        return this.down(item, -page);
      case "PageDown":
        return this.down(item, page);
      case "Home":
        return 0;
      case "End":
        return this.total - 1;
      default:
        return null;
    }
  }

  /** The item so many rows of items further down (or up), in the same column where there is one. */
  down(item: number, rows: number): number {
    const from = this.of(item);
    let row = from.row;
    for (let left = Math.abs(rows); left > 0; left -= 1) {
      let next = row + Math.sign(rows);
      if (next >= 0 && next < this.count && this.isHeading(next)) next += Math.sign(rows);
      if (next < 0 || next >= this.count) break;
      row = next;
    }
    const here = this.at(row);
    if ("group" in here) return item;
    if (row === from.row) return Math.abs(rows) > 0 ? (rows > 0 ? here.last - 1 : here.first) : item;
    return Math.min(here.first + from.column, here.last - 1);
  }
}

/** The last of some ascending numbers that is not above a number. */
function within(starts: number[], number: number): number {
  let low = 0;
  let high = starts.length - 1;
  while (low < high) {
    const middle = Math.ceil((low + high) / 2);
    if ((starts[middle] ?? 0) <= number) low = middle;
    else high = middle - 1;
  }
  return low;
}
