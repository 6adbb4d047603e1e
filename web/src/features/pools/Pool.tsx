/** One pool: how it stands, its drives as they are cut, what runs, its volumes, the last check. */

import { Button, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { EVERYTHING } from "../../api/keys";
import { Cut } from "../../shared/Cut";
import { JobLine } from "../../shared/JobLine";
import { useMay } from "../../shared/me";
import { Act, Heading, State, Term, Trouble, Waiting } from "../../shared/parts";
import { shortShelf } from "../../shared/places";
import { SheetAct } from "../../shared/SheetForm";
import { sentence, survivesAny } from "../../shared/survives";
import { formatSize, formatWhen, Size, useUnits } from "../../shared/units";
import { Backups } from "./Backups";
import { Copies, Front, LargerPath, Members } from "./Changing";
import { Keys } from "./Keys";
import { MakeVolumes } from "./MakeVolumes";
import { Proofs } from "./Proofs";
import { Replace } from "./Replace";
import { Room } from "./Room";
import { Schedules } from "./Schedules";
import { Speed } from "./Speed";
import { Spares, Surface } from "./StandingBy";
import { Volume } from "./Volume";

type PoolData = Schema["PoolOut"];

export function Pool() {
  const id = Number(useParams().id);
  const pool = server.useQuery("get", "/api/pools/{pool_id}", { params: { path: { pool_id: id } } });
  if (pool.isPending) return <Waiting height={400} />;
  if (pool.isLoadingError) return <Trouble error={pool.error} />;
  return <Shown pool={pool.data} />;
}

function Shown({ pool }: { pool: PoolData }) {
  const away = pool.places.filter((p) => p.state !== "active");
  const shelf = shelfOf(pool);
  return (
    <>
      <Heading
        named={`Pool ${pool.name}`}
        title={
          <>
            <svg width="16" height="26" aria-hidden="true" style={{ verticalAlign: "-6px", marginRight: 9 }}>
              <rect
                x=".5"
                y=".5"
                width="15"
                height="25"
                rx="2"
                fill={`url(#pool-${pool.tint % 8})`}
                stroke="var(--ink)"
              />
            </svg>
            {pool.name}
          </>
        }
      >
        <span style={{ fontSize: "1.1rem" }}>
          <State word={pool.state} />
        </span>
        <Text c="dimmed">
          {pool.unallocated === null
            ? `${pool.scheme}${pool.trade_name ? ` (${pool.trade_name})` : ""}, ${pool.description}`
            : "one drive, divided into partitions"}
          {pool.spares.length > 0 && `, ${pool.spares.length} spare${pool.spares.length > 1 ? "s" : ""}`}
        </Text>
        {pool.unallocated === null && (
          <Button
            component={Link}
            to={`/pools/${pool.id}/grow`}
            variant="default"
            size="xs"
            ml="auto"
            className="no-print"
          >
            Make it larger…
          </Button>
        )}
      </Heading>
      <div style={{ display: "flex", gap: "1rem", flexWrap: "wrap", alignItems: "flex-start" }}>
        <div
          style={{
            flex: "2 1 520px",
            minWidth: 0,
            display: "grid",
            gridTemplateColumns: "minmax(0, 1fr)",
            gap: "1rem",
          }}
        >
          <section className="paper" aria-label="Drives">
            <Standing pool={pool} />
            <Cut
              cut={pool.cut}
              label={(slot) => bayOf(pool, slot, shelf)}
              title={(slot) => pool.places[Number(slot)]?.place ?? slot}
              failed={new Set(away.map((p) => String(p.slot)))}
              filling={new Set(away.filter((p) => p.state === "rebuilding").map((p) => String(p.slot)))}
              goneWord="away"
              tint={pool.tint}
              ribbon={pool.restripe?.ribbon}
            />
            {pool.unallocated === null && <Members pool={pool} />}
            {shelf && (
              <Text size="sm" c="dimmed">
                Bays of {shelf}
              </Text>
            )}
          </section>
          {away
            .filter((p) => p.state === "failed" || p.state === "missing" || p.state === "emptied")
            .map((place) => (
              <Gone key={place.slot} pool={pool} place={place} />
            ))}
          <Copies pool={pool} />
          {pool.volumes.map((volume) => (
            <Volume key={volume.id} volume={volume} closed={pool.why_closed} />
          ))}
          {pool.unallocated === null ? <MakeVolumes pool={pool} /> : <Divided pool={pool} />}
          {pool.unallocated === null && <Speed pool={pool} />}
          <Backups pool={pool} />
          <div className="side-by-side">
            <Check pool={pool} />
            <Surface pool={pool} />
            <Schedules pool={pool} />
            {pool.unallocated === null && !pool.domain && <Spares pool={pool} />}
          </div>
        </div>
        <div
          style={{
            flex: "1 1 340px",
            minWidth: 0,
            display: "grid",
            gridTemplateColumns: "minmax(0, 1fr)",
            gap: "1rem",
          }}
        >
          {pool.jobs.length > 0 && (
            <section className="paper" aria-label="Under way">
              <h2>Under way</h2>
              {pool.jobs.map((job) => (
                <JobLine key={job.id} job={job} plain />
              ))}
            </section>
          )}
          <Room pool={pool} />
          <Front pool={pool} />
          <LargerPath pool={pool} />
          {pool.encrypted && <Keys pool={pool} />}
          <Proofs pool={pool} />
          <OnItsDrives pool={pool} />
          <section className="paper" aria-label="Figures">
            <h2>Figures</h2>
            <table className="plain">
              <tbody>
                <tr>
                  <td>
                    <Term word="guaranteed">Failures survived, sure</Term>
                  </td>
                  <td className="num">{pool.guaranteed}</td>
                </tr>
                <tr>
                  <td>
                    <Term word="best case">at best</Term>
                  </td>
                  <td className="num">{pool.best_case}</td>
                </tr>
                {pool.domain && (
                  <tr>
                    <td>Kept apart</td>
                    <td className="num">{pool.domain}s</td>
                  </tr>
                )}
                <tr>
                  <td>Encrypted</td>
                  <td className="num">
                    {pool.encrypted ? (pool.locked ? "yes, locked" : "yes, unlocked") : "no"}
                  </td>
                </tr>
                <tr>
                  <td>Built</td>
                  <td className="num">{formatWhen(pool.created_at)}</td>
                </tr>
              </tbody>
            </table>
            {pool.unallocated === null &&
              !pool.domain &&
              pool.free > 0 &&
              pool.volumes.some((v) => !v.thin) && (
                <div style={{ marginTop: "0.6rem" }} className="no-print">
                  <SheetAct kind="extend-volumes" body={{ pool: pool.name }} why={pool.why_closed}>
                    Extend its volumes by what is left
                  </SheetAct>
                </div>
              )}
            {pool.unallocated === null && (
              <div style={{ marginTop: "0.6rem" }} className="no-print">
                <SheetAct
                  kind="take-apart"
                  body={{ pool: pool.name }}
                  title={`Take ${pool.name} apart`}
                  fields={[
                    {
                      name: "keep_days",
                      label: "Days in which it can be put together again",
                      description:
                        "While nothing is written on its drives; so long they cannot be wiped. 0: there is no undo.",
                      kind: "number",
                      initial: 7,
                    },
                    ...(pool.state === "healthy" || pool.state === "lost"
                      ? []
                      : [
                          {
                            name: "all_the_same",
                            label: `Though it is ${pool.state}: all the same`,
                            description:
                              pool.state === "unreachable"
                                ? "Nothing is lost: once what is away is back, it goes on where it was."
                                : "All its data can be read. A replacement is all that is missing.",
                            kind: "check" as const,
                          },
                        ]),
                  ]}
                >
                  Take it apart…
                </SheetAct>
              </div>
            )}
            {pool.stands_apart > 0 && (
              <div style={{ marginTop: "0.6rem" }} className="no-print">
                <SheetAct kind="move-together" body={{ pool: pool.name }} why={pool.why_closed}>
                  Move what is in it together
                </SheetAct>
              </div>
            )}
            <Text size="sm" mt="xs">
              <Link to={`/notice?kind=pool&name=${encodeURIComponent(pool.name)}`}>Impact of an outage</Link>
            </Text>
          </section>
        </div>
      </div>
    </>
  );
}

/** Where more partitions are made, and the drive is given back. */
function Divided({ pool }: { pool: PoolData }) {
  const drive = pool.places[0]?.drive_id;
  return (
    <p className="no-print" style={{ margin: 0 }}>
      The volumes here are the partitions of this drive.{" "}
      {drive != null && (
        <Link to={`/drives/${drive}/partitions`}>
          {pool.volumes.length
            ? "See them with their sectors, and partition what is unallocated"
            : "No partition is left: make others, or give the drive back"}
        </Link>
      )}
    </p>
  );
}

/** The one shelf all members stand on, if there is one. */
function shelfOf(pool: PoolData): string | null {
  const shelves = new Set(
    pool.places.map((p) => p.place?.replace(/^out of | bay \d+$/g, "")).filter(Boolean),
  );
  return shelves.size === 1 ? ([...shelves][0] ?? null) : null;
}

function bayOf(pool: PoolData, id: string, shelf: string | null): string {
  const place = id.startsWith("spare-")
    ? pool.spares.find((s) => `spare-${s.drive_id}` === id)?.place
    : pool.places[Number(id)]?.place;
  if (!place) return "–";
  // One that is out is called by the bay it was in.
  const match = /^(?:out of )?(.*) bay (\d+)$/.exec(place);
  if (!match) return place;
  return match[1] === shelf ? match[2] : `${shortShelf(match[1])} ${match[2]}`;
}

function Standing({ pool }: { pool: PoolData }) {
  const whole = pool.state === "healthy";
  const sentence = {
    lost:
      pool.unallocated === null
        ? "More drives have failed than this pool survives. Its data are lost."
        : "The drive has failed, and nothing protected what was on it: it is lost. Delete the volumes, then give the drive up.",
    unreachable: `${pool.now.sentence} Reading and writing are held meanwhile, and nothing is rebuilt.`,
  }[pool.state];
  return (
    <p
      style={{ marginTop: 0, fontWeight: whole ? 400 : 600, color: whole ? undefined : "var(--rust)" }}
      aria-live="polite"
    >
      {sentence ?? (whole ? promise(pool) : `${pool.now.sentence} All data can be read.`)}
      {pool.synced < 1 &&
        whole &&
        " The first sync is under way; what has been written is protected already."}
      {(!whole || pool.places.some((p) => p.condition === "failing")) && (
        <>
          {" "}
          <Link to={`/trouble/${pool.id}`}>In front of the shelf: what to do, and what not</Link>
        </>
      )}
    </p>
  );
}

function promise(pool: PoolData): string {
  if (pool.unallocated !== null)
    return "The drive is well. Nothing protects what is on it: have a backup, or move it to a pool.";
  const failing = pool.places.filter((p) => p.condition === "failing").length;
  const well = failing
    ? `All drives serve; ${failing === 1 ? "one of them is" : `${failing} of them are`} failing.`
    : "All drives are well.";
  if (pool.domain && !pool.volumes.length) return `${well} No volume stands on it yet.`;
  if (pool.best_case === 0) return `${well} Without redundancy, any failed drive loses the data.`;
  if (pool.domain && pool.domain !== "drive") {
    return `${well} ${sentence(survivesAny(pool.guaranteed, pool.domain))}, with all drives in ${pool.guaranteed === 1 ? "it" : "them"}.`;
  }
  const best = `; in the best case ${pool.best_case}, in the right ${pool.domain ? "places" : "sets"}`;
  return `${well} ${sentence(survivesAny(pool.guaranteed))}${pool.best_case > pool.guaranteed ? best : ""}.`;
}

function Gone({ pool, place }: { pool: PoolData; place: Schema["PlaceOut"] }) {
  const [choosing, setChoosing] = useState(false);
  const { system } = useUnits();
  const may = useMay("replace-drives");
  const why = may.why ?? place.why_not_replaceable;
  return (
    <section className="paper" aria-label={`Place ${place.slot + 1}`} style={{ borderColor: "var(--rust)" }}>
      <div style={{ display: "flex", flexWrap: "wrap", gap: "0.6rem 1rem", alignItems: "center" }}>
        <span style={{ flex: "1 1 260px" }}>
          {place.place} · {place.serial}{" "}
          <State
            word={place.state === "missing" && place.condition !== "missing" ? "waiting" : place.state}
          />
          {place.state === "emptied" &&
            ": what stood on it stands on others now; a drive here gives room again."}
          {place.state === "missing" &&
            (place.missed
              ? `: put it back, and it is brought up to date with what has changed since, at most ${formatSize(place.missed, system)}; or give its place to another.`
              : ": put it back, and it goes on where it was, for nothing has changed since; or give its place to another.")}
        </span>
        <Act why={why} color="rust" onClick={() => setChoosing(true)}>
          Replace the drive…
        </Act>
      </div>
      {choosing && <Replace poolId={pool.id} slot={place.slot} onClose={() => setChoosing(false)} />}
    </section>
  );
}

/** What its drives say of it themselves. */
function OnItsDrives({ pool }: { pool: PoolData }) {
  const { system } = useUnits();
  const { record } = pool;
  if (!record) return null;
  return (
    <section className="paper" aria-label="On its drives">
      <h2>
        <Term word="record">On its drives</Term>
      </h2>
      <p style={{ margin: "0.3rem 0 0" }}>
        {record.on === record.of ? `All ${record.of}` : `${record.on} of ${record.of}`} say what this pool is,
        as of {formatWhen(record.written_at)} ({formatSize(record.size, system)} on each, in two copies).
      </p>
    </section>
  );
}

function Check({ pool }: { pool: PoolData }) {
  const client = useQueryClient();
  const may = useMay("run-jobs");
  const start = useMutation({
    mutationFn: () => ask(api.POST("/api/pools/{pool_id}/check", { params: { path: { pool_id: pool.id } } })),
    onSettled: () => client.invalidateQueries(EVERYTHING),
  });
  const why = may.why ?? pool.why_no_check;
  const report = pool.last_check?.report;
  return (
    <section className="paper" aria-label="Check">
      <h2>
        <Term word="check">Check</Term>
      </h2>
      {report && pool.last_check?.finished_at ? (
        <>
          <table className="plain">
            <tbody>
              <tr>
                <td>Compared</td>
                <td className="num">
                  <Size bytes={report.bytes_compared ?? 0} />
                </td>
              </tr>
              <tr>
                <td>Mismatches</td>
                <td
                  className="num"
                  style={{ fontWeight: 600, color: report.mismatches ? "var(--rust)" : undefined }}
                >
                  {report.mismatches}
                </td>
              </tr>
              {Boolean(report.mismatches) && (
                <tr>
                  <td>Put right</td>
                  <td className="num">{report.put_right}</td>
                </tr>
              )}
              <tr>
                <td>Files read back</td>
                <td className="num">{report.files_read}</td>
              </tr>
              <tr>
                <td>Files differing</td>
                <td
                  className="num"
                  style={{
                    fontWeight: 600,
                    color: report.files_differing?.length ? "var(--rust)" : undefined,
                  }}
                >
                  {report.files_differing?.length ?? 0}
                </td>
              </tr>
              <tr>
                <td>Finished</td>
                <td className="num">{formatWhen(pool.last_check.finished_at)}</td>
              </tr>
            </tbody>
          </table>
          {Boolean(report.places?.length) && (
            <Mismatches pool={pool} places={report.places ?? []} total={report.mismatches ?? 0} />
          )}
        </>
      ) : (
        <p style={{ margin: "0.4rem 0 0.8rem" }}>
          Never checked. A check reads everything and reports what it compared.
        </p>
      )}
      <div style={{ marginTop: "0.7rem" }}>
        <Act why={why} variant="default" loading={start.isPending} onClick={() => start.mutate()}>
          Check now
        </Act>
      </div>
      {start.isError && <Trouble error={start.error} />}
    </section>
  );
}

function Mismatches({
  pool,
  places,
  total,
}: {
  pool: PoolData;
  places: Schema["MismatchOut"][];
  total: number;
}) {
  return (
    <details>
      <summary style={{ cursor: "pointer" }}>Where</summary>
      <ul style={{ margin: "0.3rem 0", paddingLeft: "1.2rem" }}>
        {places.map((m) => (
          <li key={`${m.set}-${m.row}`}>
            set {m.set + 1}, stripe {m.row}:{" "}
            {m.put_right_slot === null
              ? "which drive is wrong cannot be told from parity alone; the files' checksums tell whether it matters"
              : `${pool.places[m.put_right_slot]?.place} was wrong, put right`}
          </li>
        ))}
      </ul>
      {total > places.length && <p className="faint">and {total - places.length} more</p>}
      <Link to="/logbook">Logbook</Link>
    </details>
  );
}
