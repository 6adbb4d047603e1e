/** Where drives are, short enough for a drawing. */

/** A shelf's name in four characters, its number kept: yarrow-1 and yarrow-2 are yar1 and yar2. */
export function shortShelf(name: string): string {
  const number = /\d+$/.exec(name)?.[0] ?? "";
  return `${name.slice(0, Math.max(1, 4 - number.length)).replace(/[-_. ]+$/, "")}${number}`;
}

/** A place such as "yarrow-1 4", shelf and bay: yar1 4. */
export function shortPlace(place: string): string {
  const at = place.lastIndexOf(" ");
  return at > 0 ? `${shortShelf(place.slice(0, at))} ${place.slice(at + 1)}` : place;
}
