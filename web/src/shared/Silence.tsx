/** What does not answer just now, and what that means for what is on the screen. */
import { Portal } from "@mantine/core";
import type { Answers } from "./live";

export function Silence({ answers }: { answers: Answers }) {
  const said = !answers.web
    ? "Pair Shelf does not answer just now; what you see may be old. It is tried again by itself."
    : !answers.database
      ? "The database does not answer just now; what you see may be old, and nothing can be changed. It is tried again by itself."
      : !answers.worker
        ? "No worker answers: nothing is built, rebuilt or noticed until it is back. The start command brings it back by itself; if it does not, start Pair Shelf again."
        : !answers.watcher
          ? "No watcher answers: nothing is recorded, and no message is sent, until it is back. The start command brings it back by itself; if it does not, start Pair Shelf again."
          : null;
  return (
    <div role="status">
      {said && (
        <>
          <Words>{said}</Words>
          {/* Seen while a dialog lies over the page and its head; said once. */}
          <Portal>
            <Words over>{said}</Words>
          </Portal>
        </>
      )}
    </div>
  );
}

function Words({ children, over }: { children: string; over?: boolean }) {
  return (
    <p className={over ? "silence over" : "silence"} aria-hidden={over}>
      <span aria-hidden="true">■ </span>
      {children}
    </p>
  );
}
