// Tables: rows that are filtered, sorted and written for a spreadsheet.

/** By which column rows are sorted; a negative one leaves them as they are. */
export interface Sorting {
  column: number;
  down: boolean;
}

/** Rows that have every word of a text in them. */
export function filtered<T>(rows: T[], text: string, words: (row: T) => string): T[] {
  const wanted = text.toLowerCase().split(/\s+/).filter(Boolean);
  if (wanted.length === 0) return rows;
  return rows.filter((row) => {
    const has = words(row).toLowerCase();
    return wanted.every((word) => has.includes(word));
  });
}

/** Rows in the order of a number; those that are alike stay in theirs. */
export function sorted<T>(rows: T[], { column, down }: Sorting, number: (row: T, column: number) => number): T[] {
  if (column < 0) return down ? [...rows].reverse() : rows;
  return [...rows].sort((a, b) => (down ? -1 : 1) * (number(a, column) - number(b, column)));
}

/** Lines of cells, as spreadsheets take them. */
export function tableText(lines: string[][]): string {
  return lines.map((cells) => cells.map((cell) => cell.replace(/[\t\n]/g, " ")).join("\t")).join("\n");
}
