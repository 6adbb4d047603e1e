/** While something is pressed, the page stands still: what would move from under the pointer is not clicked. */
import { notifyManager } from "@tanstack/react-query";

/** Milliseconds after which a page goes on though the pointer is still down: somebody marks a text, or drags. */
const AT_MOST = 2000;
/** Milliseconds from letting go until the page goes on; a tap is told as a click a little after the finger has left. */
const AFTER = 60;

/** Holds back what the server answers between pressing and letting go. For the whole page, once. */
export function standStillWhilePressed(): void {
  const held: (() => void)[] = [];
  let pressed = false;
  let timer: ReturnType<typeof setTimeout> | undefined;
  const goOn = () => {
    pressed = false;
    for (const tell of held.splice(0)) tell();
  };
  const goOnIn = (milliseconds: number) => {
    clearTimeout(timer);
    timer = setTimeout(goOn, milliseconds);
  };
  notifyManager.setScheduler((tell) =>
    setTimeout(() => {
      if (pressed) held.push(tell);
      else tell();
    }, 0),
  );
  addEventListener(
    "pointerdown",
    () => {
      pressed = true;
      goOnIn(AT_MOST);
    },
    true,
  );
  for (const end of ["pointerup", "pointercancel"])
    addEventListener(end, () => pressed && goOnIn(AFTER), true);
}
