/** Words that are shown once and kept nowhere, and text to copy. */

import { Button, Checkbox, CopyButton, Modal, Stack, Text } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { createContext, type ReactNode, useCallback, useContext, useState } from "react";
import { api, ask } from "../api/client";
import { about } from "../api/keys";

type Once = { pool: string; poolId: number; passphrase: string };

const Show = createContext<(what: Once) => void>(() => {});
/** Show a passphrase until the person says it is kept. */
export const useShowOnce = () => useContext(Show);

export function OnceProvider({ children }: { children: ReactNode }) {
  // Several at once are shown one after the other.
  const [all, setAll] = useState<Once[]>([]);
  const what = all[0] ?? null;
  const [kept, setKept] = useState(false);
  const client = useQueryClient();
  const show = useCallback((one: Once) => setAll((before) => [...before, one]), []);
  const close = () => {
    if (what) {
      const path = { path: { pool_id: what.poolId } };
      // Said to the server too: until then Today reminds of it, should this window be lost.
      ask(api.POST("/api/pools/{pool_id}/passphrase-kept", { params: path }))
        .catch(() => null)
        .finally(() => client.invalidateQueries(about("/api/today")));
    }
    setAll((before) => before.slice(1));
    setKept(false);
  };
  return (
    <Show.Provider value={show}>
      {children}
      <Modal
        opened={what !== null}
        onClose={() => kept && close()}
        withCloseButton={false}
        closeOnClickOutside={false}
        closeOnEscape={false}
        title={`Passphrase of pool ${what?.pool ?? ""}`}
        size="lg"
      >
        <Stack gap="sm">
          <Text>
            It is shown this once and kept nowhere. Write it down, and keep it apart from the drives. Whenever
            the pool is locked, or this machine has been started again, an administrator needs it. Without it,
            all data on the pool are lost.
          </Text>
          <Copyable label="Passphrase" text={what?.passphrase ?? ""} />
          <Checkbox
            label="I have written it down"
            checked={kept}
            onChange={(e) => setKept(e.currentTarget.checked)}
          />
          <Button disabled={!kept} onClick={close} w="fit-content">
            Close
          </Button>
        </Stack>
      </Modal>
    </Show.Provider>
  );
}

/** A text with a button that copies it. */
export function Copyable({ label, text }: { label?: string; text: string }) {
  return (
    <div style={{ margin: "0.35rem 0" }}>
      {label && (
        <Text size="sm" c="dimmed">
          {label}
        </Text>
      )}
      <div style={{ display: "flex", gap: "0.5rem", alignItems: "flex-start" }}>
        <pre className="copyable" tabIndex={0}>
          {text}
        </pre>
        <CopyButton value={text}>
          {({ copied, copy }) => (
            <Button size="compact-xs" variant="subtle" onClick={copy} className="no-print">
              {copied ? "copied" : "copy"}
            </Button>
          )}
        </CopyButton>
      </div>
    </div>
  );
}
