/** A part of a drawing that can be pressed, by pointer and by keys; without an act it is only a part. */
import type { KeyboardEvent, ReactNode } from "react";

export function SvgButton({
  name,
  pressed,
  onPress,
  transform,
  children,
}: {
  name: string;
  pressed: boolean;
  onPress?: () => void;
  transform?: string;
  children: ReactNode;
}) {
  const press = (e: KeyboardEvent) => {
    if (e.key !== "Enter" && e.key !== " ") return;
    e.preventDefault();
    onPress?.();
  };
  if (!onPress) return <g transform={transform}>{children}</g>;
  return (
    <g
      transform={transform}
      role="button"
      tabIndex={0}
      aria-pressed={pressed}
      aria-label={name}
      onClick={onPress}
      onKeyDown={press}
      style={{ cursor: "pointer" }}
    >
      {children}
    </g>
  );
}
