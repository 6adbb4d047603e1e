/** How many failures something survives, in the words that the server uses too. */

/** survives any 2 drive failures: of something whole, whichever units fail. */
export function survivesAny(count: number, unit = "drive"): string {
  if (count === 0) return `survives no ${unit} failure`;
  return `survives any ${count === 1 ? "one" : count} ${unit} failure${count === 1 ? "" : "s"}`;
}

/** survives 1 more failure: of something that has lost some already. */
export function survivesMore(count: number): string {
  return count === 0
    ? "survives no further failure"
    : `survives ${count} more failure${count === 1 ? "" : "s"}`;
}

export const sentence = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);
