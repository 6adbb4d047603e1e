/** Sentences of a list with a key each: equal ones have their own. */
export function keyed(sentences: readonly string[]): { key: string; text: string }[] {
  const seen = new Map<string, number>();
  return sentences.map((text) => {
    const before = seen.get(text) ?? 0;
    seen.set(text, before + 1);
    return { key: before ? `${text} (${before + 1})` : text, text };
  });
}
