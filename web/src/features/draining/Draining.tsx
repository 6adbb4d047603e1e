/** Draining: what is still on drives that are to leave, where it goes, and what may fail meanwhile. */
import { Button, Group, SegmentedControl, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { EVERYTHING } from "../../api/keys";
import { useMay } from "../../shared/me";
import { Empty, Heading, Trouble, Waiting } from "../../shared/parts";
import { SheetAct } from "../../shared/SheetForm";
import { spinePath } from "../../shared/spine";
import { survivesAny, survivesMore } from "../../shared/survives";
import { TERMS } from "../../shared/terms";
import { formatHours, formatSize, formatWhen, shortSize, useUnits } from "../../shared/units";

type Drain = Schema["DrainOut"];
type Leaving = Schema["LeavingOut"];

export function Draining() {
  const found = server.useQuery("get", "/api/drains");
  if (found.isPending) return <Waiting height={300} />;
  if (found.isLoadingError) return <Trouble error={found.error} />;
  const { drains } = found.data;
  return (
    <>
      <Heading title="Draining">
        <Text c="dimmed">{TERMS.drain}</Text>
      </Heading>
      {drains.length === 0 && (
        <Empty act="To the shelves" to="/shelves">
          Nothing is being emptied. Choose drives on their shelves, or a whole shelf, and drain them.
        </Empty>
      )}
      {drains.map((drain) => (
        <One key={drain.id} drain={drain} />
      ))}
    </>
  );
}

function One({ drain }: { drain: Drain }) {
  const { system } = useUnits();
  const over = drain.ended_at !== null;
  const shelves = sums(drain.drives);
  const free = drain.drives.filter((d) => d.service === "free");
  return (
    <section className="paper" aria-label={`Draining ${drain.subject}`} style={{ marginBottom: "1rem" }}>
      <Group justify="space-between" align="baseline" gap="xs">
        <h2>{drain.subject[0].toUpperCase() + drain.subject.slice(1)}</h2>
        <Text size="sm" c="dimmed">
          {over
            ? `${drain.left_off ? "left off" : "empty since"} ${formatWhen(drain.ended_at ?? "")}`
            : `since ${formatWhen(drain.started_at)}, asked for by ${drain.asked_by}`}
        </Text>
      </Group>
      {over ? (
        <Text my={6}>
          {drain.left_off
            ? "What had moved stays where it is; the rest stayed where it was."
            : `${free.length} of ${drain.drives.length} drives are free, their old data readable until they are wiped.`}
          {free.length > 0 && (
            <>
              {" "}
              <Link to={`/disposal?drives=${free.map((d) => d.id).join(",")}`}>
                Wipe them, or let them go
              </Link>
            </>
          )}
        </Text>
      ) : (
        <>
          <p style={{ margin: "0.3rem 0", fontSize: "1.06rem" }}>
            <strong>{formatSize(drain.left, system)}</strong> of {formatSize(drain.held, system)} still there
            {shelves.length > 1 &&
              `: ${shelves.map(([name, left]) => `${name} ${formatSize(left, system)}`).join(", ")}`}
            .
          </p>
          {drain.pools.map((pool) => (
            <Kept key={pool.id} pool={pool} />
          ))}
          <Steer drain={drain} />
        </>
      )}
      {!over && (
        <div className="picks" style={{ marginTop: "0.4rem" }}>
          {drain.drives.map((d) => (
            <LeavingSpine key={d.id} drive={d} largest={Math.max(...drain.drives.map((o) => o.size))} />
          ))}
        </div>
      )}
      {!over && <Table drain={drain} />}
    </section>
  );
}

/** What is left on each shelf. */
function sums(drives: Leaving[]): [string, number][] {
  const found = new Map<string, number>();
  for (const d of drives) {
    const name = d.shelf ?? "in no bay";
    found.set(name, (found.get(name) ?? 0) + d.left);
  }
  return [...found];
}

/** What a pool survives meanwhile: as promised, or less. */
function Kept({ pool }: { pool: Schema["KeptOut"] }) {
  const whole = pool.serves && pool.now >= pool.promised;
  return (
    <p className={whole ? undefined : "rust"} style={{ margin: "0.15rem 0" }}>
      <Link to={`/pools/${pool.id}`}>{pool.name}</Link>{" "}
      {whole
        ? `is fully protected: it ${survivesAny(pool.now)}.`
        : pool.serves
          ? `is ${pool.state}: it ${survivesMore(pool.now)} (of ${pool.promised} by its layout).`
          : `is ${pool.state}; moving waits until it can be read.`}
    </p>
  );
}

function Steer({ drain }: { drain: Drain }) {
  const client = useQueryClient();
  const may = useMay("run-jobs");
  const steer = useMutation({
    mutationFn: (act: "pause" | "resume" | "gentle" | "fast") =>
      ask(api.POST("/api/drains/{drain_id}", { params: { path: { drain_id: drain.id } }, body: { act } })),
    onSettled: () => client.invalidateQueries(EVERYTHING),
  });
  return (
    <>
      <Group gap="sm" my={8} className="no-print">
        {may.may && drain.pace !== null && (
          <SegmentedControl
            size="xs"
            aria-label="Pace"
            value={drain.pace}
            onChange={(v) => steer.mutate(v as "gentle" | "fast")}
            data={["gentle", "fast"]}
          />
        )}
        {may.may && (
          <Button
            size="compact-sm"
            variant="default"
            loading={steer.isPending}
            onClick={() => steer.mutate(drain.paused ? "resume" : "pause")}
          >
            {drain.paused ? "Resume" : "Pause"}
          </Button>
        )}
        <SheetAct kind="leave-drain" body={{ drain: drain.id }}>
          Leave it off…
        </SheetAct>
      </Group>
      {steer.isError && <Trouble error={steer.error} />}
    </>
  );
}

/** The spine keeps its outline where it stood, and empties. */
function LeavingSpine({ drive, largest }: { drive: Leaving; largest: number }) {
  const { system } = useUnits();
  const tall = Math.round(44 + 44 * (drive.size / largest));
  const share = drive.held ? drive.left / drive.held : 0;
  const filled = Math.round(share * (tall - 2));
  const id = `leaving-${drive.id}`;
  const bay = /bay (\d+)$/.exec(drive.place)?.[1] ?? "";
  return (
    <svg width="66" height="136" role="img" aria-label={`${drive.place}, ${said(drive, system)}`}>
      <title>{`${drive.place} · ${drive.serial} · ${said(drive, system)}`}</title>
      <g transform={`translate(16 ${92 - tall})`}>
        <clipPath id={id}>
          <rect x="0" y={tall - filled} width="34" height={filled} />
        </clipPath>
        <path d={spinePath(drive.kind, tall)} fill="var(--board)" opacity="0.6" clipPath={`url(#${id})`} />
        <path
          d={spinePath(drive.kind, tall)}
          fill="none"
          stroke="var(--ink)"
          strokeDasharray={drive.left === 0 ? "1.5 3" : undefined}
        />
        <text transform={`translate(21.5 ${tall - 19}) rotate(-90)`} fontSize="12" fill="var(--ink)">
          {shortSize(drive.size, system)}
        </text>
      </g>
      <text x="33" y="116" fontSize="11" textAnchor="middle" fill="var(--ink)">
        {drive.shelf
          ? `${drive.shelf.length > 10 ? `${drive.shelf.slice(0, 9)}.` : drive.shelf} ${bay}`
          : drive.serial}
      </text>
      <text x="33" y="130" fontSize="10.5" textAnchor="middle" fill="var(--faint)">
        {drive.left === 0 ? "empty" : `${Math.ceil(share * 100)} % left`}
      </text>
    </svg>
  );
}

function said(drive: Leaving, system: "decimal" | "binary"): string {
  return drive.left === 0 ? "empty" : `${formatSize(drive.left, system)} still there`;
}

function Table({ drain }: { drain: Drain }) {
  const { system } = useUnits();
  return (
    <div style={{ overflowX: "auto" }}>
      <table className="plain stacks" style={{ marginTop: "0.5rem" }}>
        <thead>
          <tr>
            <th>Drive</th>
            <th>Pool</th>
            <th className="num">Still there</th>
            <th>Goes to</th>
            <th>How it stands</th>
          </tr>
        </thead>
        <tbody>
          {drain.drives.map((d) => (
            <tr key={d.id}>
              <td data-label="Drive">
                {d.place} <span className="faint">{d.serial}</span>
              </td>
              <td data-label="Pool">{d.pool ?? ""}</td>
              <td data-label="Still there" className="num" style={{ whiteSpace: "nowrap" }}>
                {d.left === 0 ? "nothing" : formatSize(d.left, system)}
              </td>
              <td data-label="Goes to">{d.onto ?? (d.pool ? `the other drives of ${d.pool}` : "")}</td>
              <td data-label="How it stands">{how(d)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function how({ job, service, left }: Leaving): string {
  if (service === "free") return "empty, free";
  if (!job) return left === 0 ? "empty" : "waits";
  if (job.state === "held") return `held: ${job.why_held}`;
  if (job.state === "paused") return "paused";
  return job.state === "running" ? `${formatHours(job.hours_left_at_pace)} left at this pace` : "waits";
}
