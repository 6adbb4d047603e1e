/** Choosing spines with a box drawn by dragging over the shelves. */
import { type PointerEvent, type ReactNode, type RefObject, useRef, useState } from "react";

interface Box {
  x: number;
  y: number;
  x2: number;
  y2: number;
}

/** A drag shorter than this is a click. */
const LEAST = 6;

export function useDragBox(root: RefObject<HTMLElement | null>, choose: (ids: number[]) => void) {
  const start = useRef<{ x: number; y: number } | null>(null);
  const [box, setBox] = useState<Box | null>(null);

  const at = (e: PointerEvent) => {
    const frame = root.current?.getBoundingClientRect();
    return { x: e.clientX - (frame?.left ?? 0), y: e.clientY - (frame?.top ?? 0) };
  };
  const handlers = {
    onPointerDown: (e: PointerEvent) => {
      if (e.button === 0 && e.pointerType === "mouse") start.current = at(e);
    },
    onPointerMove: (e: PointerEvent) => {
      if (!start.current) return;
      const now = at(e);
      if (!box && Math.hypot(now.x - start.current.x, now.y - start.current.y) < LEAST) return;
      e.currentTarget.setPointerCapture(e.pointerId);
      setBox({ x: start.current.x, y: start.current.y, x2: now.x, y2: now.y });
    },
    onPointerUp: () => {
      start.current = null;
      if (!box) return;
      choose(inside(root.current, box));
      setBox(null);
    },
    onPointerCancel: () => {
      start.current = null;
      setBox(null);
    },
  };
  const drawn: ReactNode = box && (
    <div
      aria-hidden="true"
      style={{
        position: "absolute",
        left: Math.min(box.x, box.x2),
        top: Math.min(box.y, box.y2),
        width: Math.abs(box.x2 - box.x),
        height: Math.abs(box.y2 - box.y),
        border: "1px solid var(--pine)",
        background: "color-mix(in srgb, var(--pine) 12%, transparent)",
        pointerEvents: "none",
      }}
    />
  );
  return { handlers, drawn };
}

function inside(root: HTMLElement | null, box: Box): number[] {
  if (!root) return [];
  const frame = root.getBoundingClientRect();
  const [left, right] = [Math.min(box.x, box.x2) + frame.left, Math.max(box.x, box.x2) + frame.left];
  const [top, bottom] = [Math.min(box.y, box.y2) + frame.top, Math.max(box.y, box.y2) + frame.top];
  return [...root.querySelectorAll<SVGElement>("[data-drive]")]
    .filter((spine) => {
      const r = spine.getBoundingClientRect();
      return r.left < right && r.right > left && r.top < bottom && r.bottom > top;
    })
    .map((spine) => Number(spine.dataset.drive));
}
