/** A drive's sheet of facts, what can be done next, and the controls of the simulated device. */
import { Button, CloseButton, Group, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { History } from "../../shared/History";
import { Lamp } from "../../shared/Lamp";
import { useKinds, useMay } from "../../shared/me";
import { Act, State, Trouble, Waiting } from "../../shared/parts";
import { Ruler } from "../../shared/Ruler";
import { SheetAct } from "../../shared/SheetForm";
import { formatSize, Size, useUnits } from "../../shared/units";
import { Laboratory } from "../disposal/Laboratory";
import { SaysItBelongs } from "../pools/Found";
import { DriveActs } from "./ByHand";
import { Ageing, Readings } from "./Readings";

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
  const [looking, setLooking] = useState(false);
  const takeIn = useMutation({
    mutationFn: () => ask(api.POST("/api/drives/take-in", { body: { ids: [drive.id] } })),
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <>
      <Group justify="space-between" wrap="nowrap" align="flex-start">
        <h2>{drive.shelf !== null ? `${drive.shelf} bay ${drive.bay}` : `Drive ${drive.serial}`}</h2>
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
      {drive.shelf === null && (
        <p style={{ margin: "0 0 0.8rem" }}>
          {drive.retired_to
            ? `It has left the house: ${drive.retired_to}.`
            : drive.left
              ? `It is in no bay; it was in ${drive.left}.`
              : "It is in no bay."}
        </p>
      )}
      {drive.holds && (
        <p className="rust" style={{ margin: "0 0 0.8rem" }}>
          Holds other data: {drive.holds}.
        </p>
      )}
      {(drive.service === "new" || drive.service === "free") && <SaysItBelongs serial={drive.serial} />}
      {drive.not_offered && drive.service !== "in-use" && drive.shelf !== null && (
        <p style={{ margin: "0 0 0.8rem" }}>Not offered for layouts: {drive.not_offered}</p>
      )}
      {drive.service === "new" && (
        <Act why={manage.why} size="sm" mb="sm" loading={takeIn.isPending} onClick={() => takeIn.mutate()}>
          Accept drive
        </Act>
      )}
      {takeIn.isError && <Trouble error={takeIn.error} />}
      {drive.shelf !== null && (
        <p className="no-print" style={{ margin: "0 0 0.8rem" }}>
          <Lamp drive={drive.id} lit={drive.lit ?? false} />
        </p>
      )}
      <Readings drive={drive} />
      <h3 style={{ margin: "1rem 0 0.3rem", fontSize: "1rem" }}>Facts</h3>
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
      {drive.used !== null && drive.used !== undefined && (
        <div style={{ margin: "0.8rem 0" }}>
          <Ruler label={`Drive ${drive.serial}`} capacity={drive.size} written={drive.used} />
          <details onToggle={(event) => setLooking(event.currentTarget.open)} className="no-print">
            <summary className="opens">How it filled, and how busy it was</summary>
            {looking && (
              <>
                <History
                  series={["drive-used"]}
                  of={drive.id}
                  named={`Drive ${drive.serial}`}
                  title="Used on it"
                />
                <History
                  series={["drive-busy"]}
                  of={drive.id}
                  named={`Drive ${drive.serial}`}
                  begin="1"
                  title="Busy, while loads are played"
                />
              </>
            )}
          </details>
        </div>
      )}
      <p style={{ margin: "0.8rem 0 0", display: "flex", flexWrap: "wrap", gap: "0.2rem 1.1rem" }}>
        <Link to={`/notice?kind=drive&name=${encodeURIComponent(drive.serial)}`}>
          Impact, and is it safe to power off?
        </Link>
        {drive.service === "free" && !drive.situations.includes("starts-host") && (
          <Link to={`/disposal?drives=${drive.id}`}>Wipe it, or let it go</Link>
        )}
        {(drive.service === "free" || drive.partitioned) && (
          <Link to={`/drives/${drive.id}/partitions`}>
            {drive.partitioned || drive.situations.includes("starts-host")
              ? "Its partitions"
              : "Partition it, without a pool"}
          </Link>
        )}
      </p>
      {drive.situations.includes("draining") && (
        <p style={{ margin: "0.5rem 0 0" }}>
          It is being emptied: <Link to="/draining">how far that is</Link>
        </p>
      )}
      {drive.service === "in-use" && !drive.partitioned && !drive.situations.includes("draining") && (
        <p className="no-print" style={{ margin: "0.5rem 0" }}>
          <SheetAct kind="drain" body={{ drives: [String(drive.id)] }}>
            Drain it
          </SheetAct>
        </p>
      )}
      {drive.service === "free" && drive.kind !== "hdd" && (
        <p className="no-print" style={{ margin: "0.4rem 0" }}>
          <SheetAct
            kind="hold-back"
            body={{ drives: [String(drive.id)] }}
            title="Hold a share back"
            about="What is held back makes a flash drive last longer. It can be given back to its pool later."
            fields={[
              { name: "share", label: "Share, from 0 to 0.5", kind: "number", initial: 0.1, required: true },
            ]}
          >
            Hold a share back…
          </SheetAct>
        </p>
      )}
      <Laboratory drive={drive.id} />
      {drive.retired_to === null && <DriveActs drive={drive} />}
      {drive.retired_to === null && <StandIn drive={drive} />}
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

function StandIn({ drive }: { drive: Schema["DriveOut"] }) {
  const may = useMay("work-stand-ins");
  const act = useMutation({
    mutationFn: (what: string) =>
      ask(
        api.POST("/api/stand-in/drives/{drive_id}", {
          params: { path: { drive_id: drive.id } },
          body: { what, count: 3 },
        }),
      ),
  });
  const faults = useKinds()?.faults ?? [];
  const why = (fault: (typeof faults)[number]) => may.why ?? fault.not_when[drive.condition];
  const done = act.isSuccess && faults.find((f) => f.id === act.variables)?.after;
  return (
    <section
      aria-label="Simulated device"
      style={{ borderTop: "1px dashed var(--line)", marginTop: "1rem", paddingTop: "0.8rem" }}
    >
      <Text size="sm" c="dimmed" mb={6}>
        Simulated device: do something to it, and see it found out
      </Text>
      <Group gap={6}>
        {faults.map((fault) =>
          why(fault) ? (
            <Act key={fault.id} why={why(fault)} variant="default" size="compact-sm">
              {fault.name}
            </Act>
          ) : (
            <Button
              key={fault.id}
              variant="default"
              size="compact-sm"
              title={fault.about}
              loading={act.isPending && act.variables === fault.id}
              onClick={() => act.mutate(fault.id)}
            >
              {fault.name}
            </Button>
          ),
        )}
      </Group>
      <Ageing drive={drive.id} />
      {act.isError && <Trouble error={act.error} />}
      {done && <Text size="sm">{done}</Text>}
    </section>
  );
}
