/** A drive's sheet of facts, what can be done next, and the controls of the simulated device. */
import { Button, CloseButton, Group, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { useMay } from "../../shared/me";
import { Act, State, Trouble, Waiting } from "../../shared/parts";
import { formatSize, Size, useUnits } from "../../shared/units";

type Fact = Schema["Fact"];

export function DriveSheet({ id, wide, onClose }: { id: number; wide: boolean; onClose: () => void }) {
  const sheet = server.useQuery("get", "/api/drives/{drive_id}", { params: { path: { drive_id: id } } });
  const side = wide
    ? {
        width: 330,
        flex: "none",
        position: "sticky" as const,
        top: 74,
        maxHeight: "calc(100vh - 100px)",
        overflowY: "auto" as const,
      }
    : { width: "100%" };
  return (
    <aside className="paper" aria-label="Drive" style={{ ...side, marginTop: "1rem" }}>
      {sheet.isPending && <Waiting />}
      {sheet.isError && <Trouble error={sheet.error} />}
      {sheet.data && <Facts {...sheet.data} onClose={onClose} />}
    </aside>
  );
}

function Facts({ drive, facts, onClose }: Schema["DriveSheetOut"] & { onClose: () => void }) {
  const client = useQueryClient();
  const manage = useMay("manage-drives");
  const takeIn = useMutation({
    mutationFn: () => ask(api.POST("/api/drives/take-in", { body: { ids: [drive.id] } })),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <>
      <Group justify="space-between" wrap="nowrap" align="flex-start">
        <h2>
          {drive.shelf} bay {drive.bay}
        </h2>
        <CloseButton aria-label="Close the drive's sheet" onClick={onClose} />
      </Group>
      <p style={{ margin: "0.3rem 0 0.8rem" }}>
        {drive.situations.map((word, i) => (
          <span key={word}>
            {i > 0 && ", "}
            <State word={word === "in-use" ? "in use" : word} />
          </span>
        ))}
        {drive.pool_id !== null && (
          <>
            {" in pool "}
            <Link to={`/pools/${drive.pool_id}`}>{drive.pool}</Link>
          </>
        )}
      </p>
      {drive.holds && (
        <p className="rust" style={{ margin: "0 0 0.8rem" }}>
          Holds other data: {drive.holds}.
        </p>
      )}
      {drive.not_offered && drive.service !== "in-use" && (
        <p style={{ margin: "0 0 0.8rem" }}>Not offered for layouts: {drive.not_offered}</p>
      )}
      {drive.service === "new" && (
        <Act why={manage.why} size="sm" mb="sm" loading={takeIn.isPending} onClick={() => takeIn.mutate()}>
          Take it in
        </Act>
      )}
      {takeIn.isError && <Trouble error={takeIn.error} />}
      <dl
        style={{
          margin: 0,
          display: "grid",
          gridTemplateColumns: "auto 1fr",
          gap: "0.28rem 0.9rem",
          fontSize: "0.92rem",
        }}
      >
        {facts.map((fact) => (
          <FactLine key={fact.label} fact={fact} />
        ))}
      </dl>
      <p style={{ margin: "0.8rem 0 0", display: "flex", flexWrap: "wrap", gap: "0.2rem 1.1rem" }}>
        <Link to={`/notice?kind=drive&name=${encodeURIComponent(drive.serial)}`}>
          Pull this: who notices?
        </Link>
        {drive.service === "free" && (
          <Link to={`/drives/${drive.id}/partitions`}>Partition it, without a pool</Link>
        )}
      </p>
      <StandIn drive={drive} />
    </>
  );
}

function FactLine({ fact }: { fact: Fact }) {
  const { system } = useUnits();
  return (
    <>
      <dt className="faint">{fact.label}</dt>
      <dd style={{ margin: 0, overflowWrap: "anywhere" }}>
        {fact.bytes != null ? (
          <Size bytes={fact.bytes} />
        ) : fact.rate != null ? (
          `${formatSize(fact.rate, system, 0)}/s`
        ) : (
          fact.text
        )}
        {fact.source && <span className="faint"> ({fact.source})</span>}
      </dd>
    </>
  );
}

const CONTROLS: {
  what: "pull" | "put-back" | "fail" | "warn" | "flip-bits";
  label: string;
  about: string;
}[] = [
  { what: "pull", label: "Pull it", about: "Take it out of its bay; its bytes stay as they are" },
  { what: "put-back", label: "Put it back", about: "Back into its bay, as it was" },
  { what: "fail", label: "Make it fail", about: "It stops working for good" },
  { what: "warn", label: "Make it warn", about: "It works on, but its readings warn" },
  { what: "flip-bits", label: "Flip bits", about: "Change three bytes silently, as rotting media do" },
];

function StandIn({ drive }: { drive: Schema["DriveOut"] }) {
  const may = useMay("work-stand-ins");
  const act = useMutation({
    mutationFn: (what: (typeof CONTROLS)[number]["what"]) =>
      ask(
        api.POST("/api/stand-in/drives/{drive_id}", {
          params: { path: { drive_id: drive.id } },
          body: { what, count: 3 },
        }),
      ),
  });
  const why = (what: string): string | undefined => {
    if (may.why) return may.why;
    if (what === "put-back") return drive.condition === "missing" ? undefined : "It is in its bay.";
    if (drive.condition === "missing") return "It is not in its bay.";
    return drive.condition === "failed" ? "It has failed already." : undefined;
  };
  return (
    <section
      aria-label="Simulated device"
      style={{ borderTop: "1px dashed var(--line)", marginTop: "1rem", paddingTop: "0.8rem" }}
    >
      <Text size="sm" c="dimmed" mb={6}>
        Simulated device: do something to it, and see it found out
      </Text>
      <Group gap={6}>
        {CONTROLS.map((control) =>
          why(control.what) ? (
            <Act key={control.what} why={why(control.what)} variant="default" size="compact-sm">
              {control.label}
            </Act>
          ) : (
            <Button
              key={control.what}
              variant="default"
              size="compact-sm"
              title={control.about}
              loading={act.isPending && act.variables === control.what}
              onClick={() => act.mutate(control.what)}
            >
              {control.label}
            </Button>
          ),
        )}
      </Group>
      {act.isError && <Trouble error={act.error} />}
      {act.isSuccess && act.variables === "flip-bits" && (
        <Text size="sm">Bits flipped. Nothing shows until a check reads them.</Text>
      )}
    </section>
  );
}
