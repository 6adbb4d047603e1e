/** What a pool holds: its ruler, where it goes, what was promised, when it will be full, and where a person is told. */
import { Button, Group, NumberInput, Text } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schema } from "../../api/client";
import { about } from "../../api/keys";
import { useAsking } from "../../shared/form";
import { History } from "../../shared/History";
import { useMay } from "../../shared/me";
import { Act, Term, Trouble } from "../../shared/parts";
import { fills, PoolRuler, RulerKey, useGrowth } from "../../shared/Ruler";
import { SheetAct } from "../../shared/SheetForm";
import { Size } from "../../shared/units";

export function Room({ pool }: { pool: Schema["PoolOut"] }) {
  const held = pool.glance;
  const growth = useGrowth(held.outlook);
  const filled = fills(held.outlook);
  const lines: [string, number, keyof typeof TERMS_OF | null][] = [
    ["Allocated to volumes", held.given, "given"],
    [
      held.of_drives ? "of that used by files, with redundancy" : "of that used by files",
      held.footprint,
      null,
    ],
    ["Files, each counted once", held.of_drives ? held.files : 0, null],
    ["of that in bins", held.in_bins, "bin"],
    ["Held back by file systems", held.reserve, "reserve"],
    ["Comes back on reclaim", held.reclaimable, "reclaimable"],
    ["Promised to volumes in all", held.committed, "committed"],
  ];
  return (
    <section className="paper" aria-label="Room">
      <div style={{ display: "flex", gap: "0.2rem 1rem", alignItems: "baseline", flexWrap: "wrap" }}>
        <h2>Room</h2>
        <RulerKey />
      </div>
      <div style={{ margin: "0.7rem 0 0.3rem" }}>
        <PoolRuler glance={held} numbers />
      </div>
      {(filled || growth) && (
        <p style={{ margin: "0.2rem 0 0.5rem" }}>
          {[filled && filled[0].toUpperCase() + filled.slice(1), growth].filter(Boolean).join("; ")}.
        </p>
      )}
      <table className="plain" aria-label="Where the capacity goes">
        <tbody>
          <tr>
            <td style={{ fontWeight: 600 }}>{pool.domain ? "Capacity of its drives" : "Capacity"}</td>
            <td className="num" style={{ fontWeight: 600 }}>
              <Size bytes={held.capacity} />
            </td>
          </tr>
          {lines
            .filter(([label, bytes]) => bytes > 0 || label === "Allocated to volumes")
            .map(([label, bytes, term]) => (
              <tr key={label}>
                <td style={{ paddingLeft: label.startsWith("of that") ? "1.4rem" : undefined }}>
                  {term ? <Term word={TERMS_OF[term]}>{label}</Term> : label}
                </td>
                <td className="num">
                  <Size bytes={bytes} />
                </td>
              </tr>
            ))}
          <tr>
            <td>{pool.unallocated === null ? "Not allocated" : "Unallocated"}</td>
            <td className="num">
              <Size bytes={pool.unallocated ?? held.free} />
            </td>
          </tr>
        </tbody>
      </table>
      {held.over_commit > 1 && (
        <Text size="sm" mt={6}>
          More is promised than there is: {held.over_commit.toFixed(2)} times the capacity. When the pool is
          full, what needs new room in its thin volumes has to wait.
        </Text>
      )}
      {held.reclaimable > 0 && (
        <div style={{ marginTop: "0.6rem" }} className="no-print">
          <SheetAct
            kind="reclaim"
            body={{ pool: pool.name }}
            why={pool.why_closed}
            title={`Reclaim what was deleted in ${pool.name}`}
            about="Extents of thin volumes on which no file stands go back to the pool."
            fields={[
              {
                name: "bins",
                label: "Empty the bins of its shares, too",
                description: "What lies in them is deleted for good.",
                kind: "check",
                initial: false,
              },
            ]}
          >
            Reclaim…
          </SheetAct>
        </div>
      )}
      {held.thin && <Thresholds of={{ pool: pool.id }} tell={held.tell} urgent={held.urgent} />}
      <div style={{ marginTop: "0.8rem" }}>
        <History series={["pool-files", "pool-given"]} of={pool.id} named={`Pool ${pool.name}`} />
      </div>
    </section>
  );
}

const TERMS_OF = {
  given: "allocated to volumes",
  bin: "bin",
  reserve: "held back",
  reclaimable: "reclaim",
  committed: "promised",
} as const;

/** Where a person is told of a pool or a volume, and where it presses. */
export function Thresholds({
  of,
  tell,
  urgent,
}: {
  of: { pool: number } | { volume: number };
  tell: number;
  urgent: number;
}) {
  const client = useQueryClient();
  const may = useMay("prepare");
  const [open, setOpen] = useState(false);
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: {
      tell: Math.round(tell * 100) as number | string,
      urgent: Math.round(urgent * 100) as number | string,
    },
    send: (said) => {
      const body = { tell: Number(said.tell) / 100, urgent: Number(said.urgent) / 100 };
      return "pool" in of
        ? ask(api.PUT("/api/pools/{pool_id}/thresholds", { params: { path: { pool_id: of.pool } }, body }))
        : ask(
            api.PUT("/api/volumes/{volume_id}/thresholds", {
              params: { path: { volume_id: of.volume } },
              body,
            }),
          );
    },
    onSuccess: () => {
      setOpen(false);
      client.invalidateQueries(about("/api/pools/{pool_id}", "/api/pools", "/api/today"));
    },
  });
  if (!open)
    return (
      <Text size="sm" mt={6}>
        You are told at {Math.round(tell * 100)} % full, and it presses at {Math.round(urgent * 100)} %.{" "}
        <Act
          why={may.why}
          size="compact-xs"
          variant="subtle"
          className="no-print"
          onClick={() => setOpen(true)}
        >
          Change
        </Act>
      </Text>
    );
  return (
    <form onSubmit={submit}>
      <Group gap="sm" align="flex-end" mt={6} wrap="wrap">
        <NumberInput label="Tell at, %" size="xs" w={110} min={5} max={99} {...form.getInputProps("tell")} />
        <NumberInput
          label="Presses at, %"
          size="xs"
          w={110}
          min={6}
          max={100}
          {...form.getInputProps("urgent")}
        />
        <Button type="submit" size="xs" loading={sending.isPending}>
          Keep
        </Button>
        <Button size="xs" variant="subtle" onClick={() => setOpen(false)}>
          Leave it
        </Button>
      </Group>
      <Trouble error={unplaced} />
    </form>
  );
}
