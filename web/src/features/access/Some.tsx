/** Some of a long list: find by a part of the name, and show more. */
import { Button, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { useState } from "react";

const FIRST = 10;

export function useSome() {
  const [typed, setTyped] = useState("");
  const [limit, setLimit] = useState(FIRST);
  const [like] = useDebouncedValue(typed.trim(), 200);
  return { typed, setTyped, like, limit, more: () => setLimit((n) => Math.min(200, n + 60)) };
}

export function Find({ some, what }: { some: ReturnType<typeof useSome>; what: string }) {
  return (
    <TextInput
      size="xs"
      w={220}
      className="no-print"
      placeholder={`Find ${what} by name`}
      aria-label={`Find ${what} by name`}
      value={some.typed}
      onChange={(e) => some.setTyped(e.currentTarget.value)}
    />
  );
}

export function More({ some, more }: { some: ReturnType<typeof useSome>; more: boolean }) {
  if (!more) return null;
  return some.limit < 200 ? (
    <Button variant="default" size="xs" w="fit-content" className="no-print" onClick={some.more}>
      Show more
    </Button>
  ) : (
    <p className="faint" style={{ margin: 0 }}>
      The first 200 are shown; find the others by name.
    </p>
  );
}
