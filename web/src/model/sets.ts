// Sets that are not changed but made anew.

/** The same, with one in it or not. */
export function withOne<T>(set: ReadonlySet<T>, value: T, isIn: boolean): ReadonlySet<T> {
  const next = new Set(set);
  next[isIn ? "add" : "delete"](value);
  return next;
}
