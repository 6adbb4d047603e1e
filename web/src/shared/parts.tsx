/** Small parts that several screens use. */
import { Button, type ButtonProps, Checkbox, Loader, Text, Tooltip } from "@mantine/core";
import { type ReactNode, useEffect, useState } from "react";
import { Link } from "react-router";
import { Problem } from "../api/client";
import { TERMS } from "./terms";

/** A trade word with its explanation on hover and focus. */
export function Term({ word, children }: { word: keyof typeof TERMS; children?: ReactNode }) {
  return (
    <Tooltip
      label={TERMS[word]}
      multiline
      w={300}
      withArrow
      events={{ hover: true, focus: true, touch: true }}
    >
      <span className="term" tabIndex={0}>
        {children ?? word}
      </span>
    </Tooltip>
  );
}

/** What went wrong and what to do, in rust. */
export function Trouble({ error, children }: { error: unknown; children?: ReactNode }) {
  if (!error) return null;
  const said = error instanceof Problem ? error.message : "Something went wrong on this page; reload it.";
  return (
    <div
      role="alert"
      className="paper"
      style={{ borderColor: "var(--rust)", background: "var(--rust-wash)" }}
    >
      {said} {children}
    </div>
  );
}

/** The error of one field, where it belongs to that field. */
export function errorOf(error: unknown, ...fields: string[]): string | undefined {
  return error instanceof Problem && error.field && fields.includes(error.field) ? error.message : undefined;
}

/** Nothing there yet: says the next step. */
export function Empty({ children, act, to }: { children: ReactNode; act?: string; to?: string }) {
  return (
    <div className="paper" style={{ textAlign: "center", padding: "2.4rem 1.2rem" }}>
      <p style={{ margin: "0 0 0.8rem" }}>{children}</p>
      {act && to && (
        <Button component={Link} to={to}>
          {act}
        </Button>
      )}
    </div>
  );
}

/** Holds the room while something is fetched. */
export function Waiting({ height = 200 }: { height?: number }) {
  return (
    <div style={{ minHeight: height, display: "grid", placeItems: "center" }}>
      <Loader size="sm" role="status" aria-label="Loading" />
    </div>
  );
}

/** A button that, where the act is not possible, stays and says why. */
export function Act({
  why,
  children,
  ...rest
}: {
  why?: string | null;
  children: ReactNode;
  onClick?: () => void;
  type?: "submit" | "button";
} & ButtonProps) {
  const button = (
    <Button
      {...rest}
      data-disabled={why ? true : undefined}
      aria-disabled={Boolean(why)}
      onClick={why ? (e) => e.preventDefault() : rest.onClick}
    >
      {children}
    </Button>
  );
  // The same button with and without: one that is put in the place of another between press and release is not clicked.
  return (
    <Tooltip
      label={why}
      disabled={!why}
      multiline
      w={280}
      withArrow
      events={{ hover: true, focus: true, touch: true }}
    >
      {button}
    </Tooltip>
  );
}

/** A tick that is seen at once, and is what the server says as soon as that is known. */
export function Tick({
  checked,
  onTick,
  failed,
  ...rest
}: {
  checked: boolean;
  onTick: (on: boolean) => void;
  failed?: boolean;
  label?: ReactNode;
  "aria-label"?: string;
  description?: ReactNode;
  disabled?: boolean;
  mt?: string;
  mb?: string;
}) {
  const [chosen, setChosen] = useState<boolean | null>(null);
  useEffect(() => {
    if (chosen === checked || failed) setChosen(null);
  }, [checked, chosen, failed]);
  return (
    <Checkbox
      {...rest}
      checked={chosen ?? checked}
      onChange={(event) => {
        setChosen(event.currentTarget.checked);
        onTick(event.currentTarget.checked);
      }}
    />
  );
}

/** Said wherever somebody could take the simulated devices for their own. */
export function StandIns() {
  return (
    <Text size="sm" c="dimmed" my="xs">
      The devices behind are simulated stand-ins: nothing on real equipment is touched. The figures are those
      of real drives.
    </Text>
  );
}

/** The document is called by what is on the screen. */
export function useTitle(title: string | undefined) {
  useEffect(() => {
    if (!title) return;
    document.title = `${title} · Pair Shelf`;
    return () => {
      document.title = "Pair Shelf";
    };
  }, [title]);
}

export function Heading({
  title,
  named,
  children,
}: {
  title: ReactNode;
  /** What the document is called, where the title is more than words. */
  named?: string;
  children?: ReactNode;
}) {
  useTitle(named ?? (typeof title === "string" ? title : undefined));
  return (
    <div
      style={{
        display: "flex",
        flexWrap: "wrap",
        gap: "0.5rem 1.2rem",
        alignItems: "baseline",
        marginBottom: "1rem",
      }}
    >
      <h1>{title}</h1>
      {children}
    </div>
  );
}

const GRAVE = new Set([
  "lost",
  "unreachable",
  "unprotected",
  "failed",
  "missing",
  "failing",
  "warns",
  "degraded",
]);

/** A state as a word; rust where it needs a person. */
export function State({ word }: { word: string }) {
  const grave = GRAVE.has(word);
  return (
    <span style={{ color: grave ? "var(--rust)" : "inherit", fontWeight: grave ? 650 : 500 }}>{word}</span>
  );
}
