/** What is there for the day that a drive fails: its surface read through, spares, and acting before it dies. */
import { Button, Modal, Select, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { EVERYTHING } from "../../api/keys";
import { useMay, useMayDo } from "../../shared/me";
import { Act, State, Term, Tick, Trouble } from "../../shared/parts";
import { SheetAct, useDrawUp } from "../../shared/SheetForm";
import { formatWhen, Size } from "../../shared/units";

type PoolData = Schema["PoolOut"];

/** The surface of its drives, and what is done where one of them fails by its readings. */
export function Surface({ pool }: { pool: PoolData }) {
  const client = useQueryClient();
  const may = useMay("run-jobs");
  const build = useMay("build-pools");
  const settle = { onSettled: () => client.invalidateQueries(EVERYTHING) };
  const path = { path: { pool_id: pool.id } };
  const scan = useMutation({
    mutationFn: () => ask(api.POST("/api/pools/{pool_id}/scan", { params: path })),
    ...settle,
  });
  const early = useMutation({
    mutationFn: (on: boolean) =>
      ask(api.PUT("/api/pools/{pool_id}/acts-early", { params: path, body: { on } })),
    ...settle,
  });
  return (
    <section className="paper" aria-label="Surface of its drives">
      <h2>
        <Term word="surface scan">Surface</Term>
      </h2>
      <p style={{ margin: "0.3rem 0 0.6rem" }}>
        {pool.last_scan?.finished_at
          ? `${formatWhen(pool.last_scan.finished_at)}: ${pool.last_scan.outcome}`
          : "Never read through. A scan reads every place of every drive, used or not, and writes anew from the others what cannot be read."}
      </p>
      <Act
        why={may.why ?? pool.why_no_scan}
        variant="default"
        loading={scan.isPending}
        onClick={() => scan.mutate()}
      >
        Scan now
      </Act>
      <Tick
        mt="sm"
        checked={pool.acts_early}
        failed={early.isError}
        disabled={!build.may}
        onTick={(on) => early.mutate(on)}
        label={
          pool.domain
            ? "Move everything off a drive that is failing, by itself"
            : "Copy a drive that is failing onto a spare by itself, while it still reads"
        }
        description={build.why ?? undefined}
      />
      <Trouble error={scan.error ?? early.error} />
    </section>
  );
}

/** Drives that stand by. */
export function Spares({ pool }: { pool: PoolData }) {
  const may = useMayDo("add-spares");
  const [adding, setAdding] = useState(false);
  return (
    <section className="paper" aria-label="Spares">
      <h2>
        <Term word="spare">Spares</Term>
      </h2>
      {pool.spares.length === 0 ? (
        <p style={{ margin: "0.3rem 0 0.6rem" }}>
          None stands by. A failed drive waits until another is put in and chosen.
        </p>
      ) : (
        <table className="plain" style={{ marginBottom: "0.6rem" }}>
          <tbody>
            {pool.spares.map((spare) => (
              <tr key={spare.drive_id}>
                <td>
                  {spare.place} · {spare.serial}
                  <Text size="sm" c="dimmed">
                    {FOR[spare.scope]}
                    {spare.condition !== "good" && <State word={`, ${spare.condition}`} />}
                  </Text>
                </td>
                <td className="num">
                  <Size bytes={spare.size} digits={1} />
                </td>
                <td className="num no-print">
                  <SheetAct kind="take-out" body={{ pool: pool.name, drives: [String(spare.drive_id)] }}>
                    Take it out
                  </SheetAct>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Act why={may.why} size="xs" variant="default" onClick={() => setAdding(true)}>
        Let a drive stand by…
      </Act>
      {adding && <AddSpare pool={pool} onClose={() => setAdding(false)} />}
    </section>
  );
}

const FOR: Record<string, string> = {
  pool: "for this pool",
  shelf: "for every pool on its shelf",
  all: "for all pools",
};

function AddSpare({ pool, onClose }: { pool: PoolData; onClose: () => void }) {
  const free = server.useQuery("get", "/api/drives/matching", { params: { query: { filter: "free" } } });
  const ids = free.data?.ids.slice(0, 200) ?? [];
  const drives = server.useQuery(
    "get",
    "/api/drives/by-id",
    { params: { query: { ids: ids.join(",") } } },
    { enabled: ids.length > 0 },
  );
  const [scope, setScope] = useState("pool");
  const draw = useDrawUp("add-spares");
  return (
    <Modal opened onClose={onClose} title="Which drive stands by?" size="lg" centered>
      <Select
        label="It stands by"
        data={Object.entries(FOR).map(([value, label]) => ({ value, label }))}
        value={scope}
        onChange={(value) => value && setScope(value)}
        allowDeselect={false}
        mb="sm"
      />
      <Trouble error={free.error ?? drives.error ?? draw.error} />
      {free.data && ids.length === 0 && (
        <p style={{ marginTop: 0 }}>
          No drive is free. Put one into an empty bay on the <Link to="/shelves">shelves</Link> and take it
          in; it appears here by itself.
        </p>
      )}
      <table className="plain">
        <tbody>
          {drives.data?.drives.map((d) => (
            <tr key={d.id}>
              <td>
                {d.shelf} bay {d.bay} · {d.serial}
                <Text size="sm" c={d.holds ? "var(--rust)" : "dimmed"}>
                  {d.holds ? `holds ${d.holds}` : [d.maker, d.model].filter(Boolean).join(" ")}
                </Text>
              </td>
              <td className="num">
                <Size bytes={d.size} digits={1} />
              </td>
              <td className="num">
                <Button
                  size="compact-sm"
                  loading={draw.isPending}
                  onClick={() =>
                    draw.mutate({
                      pool: pool.name,
                      drives: [String(d.id)],
                      spares_for: scope,
                    })
                  }
                >
                  Draw up the sheet
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Modal>
  );
}
