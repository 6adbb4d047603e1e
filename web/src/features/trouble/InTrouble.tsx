/** One pool in trouble, made for a phone in front of the shelf: what happened, what may still fail, the one right act,
 * what must not be done now, and the locate LED of the drive. */
import { Button } from "@mantine/core";
import { Link, useParams } from "react-router";
import { type Schema, server } from "../../api/client";
import { JobLine } from "../../shared/JobLine";
import { Lamp } from "../../shared/Lamp";
import { Trouble as Failed, State, useTitle, Waiting } from "../../shared/parts";
import { BAY_WIDTH, type Drive, SpineDrawing, situationWord, TALLEST } from "../../shared/spine";
import { formatWhen, shortSize, useUnits } from "../../shared/units";

type Concerned = Schema["ConcernedOut"];

export function InTrouble() {
  const id = Number(useParams().id);
  const told = server.useQuery("get", "/api/trouble/{pool_id}", { params: { path: { pool_id: id } } });
  useTitle(told.data?.title);
  if (told.isPending) return <Waiting height={400} />;
  if (told.isLoadingError) return <Failed error={told.error} />;
  const { data } = told;
  if (data.over)
    return (
      <article className="paper trouble" aria-label="Trouble">
        <h1>Pool {data.pool} is well</h1>
        <p>Every drive of it serves, and none of them warns. There is nothing to be done.</p>
        <Happened lines={data.happened} />
        <p>
          <Link to={`/pools/${data.pool_id}`}>To the pool</Link>
        </p>
      </article>
    );
  const hurt = new Set(data.drives.map((d) => d.drive_id).filter((d): d is number => d !== null));
  const needed = new Set(data.keep_in.map((d) => d.drive_id).filter((d): d is number => d !== null));
  return (
    <article className="paper trouble" aria-label="Trouble">
      <p style={{ margin: 0 }}>
        Pool <Link to={`/pools/${data.pool_id}`}>{data.pool}</Link>, <State word={data.state} />
      </p>
      <h1>{data.title}</h1>
      <p className="trouble-still">{data.still}</p>

      <section aria-label="What to do" className="trouble-must">
        <h2>{data.must}</h2>
        <p>{data.must_why}</p>
        {data.link && (
          <Button component={Link} to={data.link} size="md" color="rust">
            {data.must.startsWith("Replace") ? "Choose the drive that takes its place" : "Go there"}
          </Button>
        )}
        {data.jobs.map((job) => (
          <JobLine key={job.id} job={job} plain />
        ))}
      </section>

      <section aria-label="The drives">
        {data.drives.map((drive) => (
          <OneDrive key={drive.slot} drive={drive} />
        ))}
      </section>
      {data.shelves.map((shelf) => (
        <Board key={shelf} shelf={shelf} hurt={hurt} needed={needed} />
      ))}

      {data.blocked.length > 0 && (
        <section aria-label="Not now">
          <h2>Not now</h2>
          <Blocked acts={data.blocked} />
          {data.keep_in.length > 0 && (
            <p>
              Leave in:{" "}
              {data.keep_in.map((d, i) => (
                <span key={d.slot}>
                  {i > 0 && ", "}
                  <span style={{ whiteSpace: "nowrap" }}>
                    {d.place} ({d.serial})
                  </span>
                </span>
              ))}
              .
            </p>
          )}
        </section>
      )}
      <Happened lines={data.happened} />
    </article>
  );
}

export function Blocked({ acts }: { acts: Schema["BlockedOut"][] }) {
  return acts.map((one) => (
    <div key={one.act} className="trouble-blocked">
      <s>{one.act}</s>
      <span>{one.why}</span>
    </div>
  ));
}

export function Happened({ lines }: { lines: Schema["HappenedOut"][] }) {
  if (lines.length === 0) return null;
  return (
    <section aria-label="What happened">
      <h2>What happened</h2>
      {lines.map((line) => (
        <div key={line.at + line.sentence} className="trouble-line">
          <span className="faint" style={{ whiteSpace: "nowrap" }}>
            {formatWhen(line.at)}
          </span>
          <span>{line.sentence}</span>
        </div>
      ))}
    </section>
  );
}

/** A drive by its bay and serial, large enough to be compared with what is printed on it; and its locate LED. */
export function OneDrive({ drive }: { drive: Concerned }) {
  return (
    <div className="trouble-drive">
      <div>
        <div className="trouble-bay">{drive.place}</div>
        <div className="trouble-serial">{drive.serial ?? "no drive"}</div>
        <State word={drive.word} />
      </div>
      {drive.drive_id !== null && drive.word !== "missing" && (
        <Lamp drive={drive.drive_id} lit={drive.lit} size="sm" />
      )}
    </div>
  );
}

/** A shelf as it stands in front of one: the drive that is meant leans, those that must stay have a mark. */
export function Board({ shelf, hurt, needed }: { shelf: number; hurt: Set<number>; needed: Set<number> }) {
  const { system } = useUnits();
  const shelves = server.useQuery("get", "/api/shelves", { params: { query: { filter: "" } } });
  const found = server.useQuery("get", "/api/drives", {
    params: { query: { shelves: String(shelf), filter: "" } },
  });
  const own = shelves.data?.shelves.find((s) => s.id === shelf);
  if (!own || !found.data) return null;
  const byBay = new Map(found.data.drives.map((d) => [d.bay, d]));
  const first = found.data.drives.some((d) => d.bay === 0) ? 0 : 1;
  const largest = Math.max(1, ...found.data.drives.map((d) => d.size));
  const bays = Array.from({ length: own.bays }, (_, i) => i + first);
  return (
    <section aria-label={`Shelf ${own.name}`}>
      <h2>{own.name}</h2>
      <div
        className="scroll-x"
        tabIndex={0}
        ref={(box) => {
          // The one that is meant is in sight, however narrow the screen is.
          const meant = bays.findIndex((bay) => hurt.has(byBay.get(bay)?.id ?? -1));
          if (box && box.scrollLeft === 0 && meant > 0)
            box.scrollLeft = Math.max(0, 8 + meant * BAY_WIDTH - box.clientWidth / 2);
        }}
      >
        <svg
          width={bays.length * BAY_WIDTH + 16}
          height={TALLEST + 66}
          role="img"
          aria-label={bays.map((bay) => `bay ${bay}: ${said(byBay.get(bay), hurt, needed)}`).join("; ")}
        >
          <rect x="0" y={TALLEST + 20} width={bays.length * BAY_WIDTH + 16} height="5" fill="var(--board)" />
          {bays.map((bay, i) => {
            const drive = byBay.get(bay);
            return (
              <g key={bay} transform={`translate(${8 + i * BAY_WIDTH} 10)`}>
                {drive && (
                  <g opacity={hurt.has(drive.id) || needed.has(drive.id) ? 1 : 0.35}>
                    <SpineDrawing drive={drive} largest={largest} system={system} selected={false} />
                  </g>
                )}
                <text
                  x={BAY_WIDTH / 2}
                  y={TALLEST + 34}
                  textAnchor="middle"
                  fontSize={drive && hurt.has(drive.id) ? 17 : 13}
                  fontWeight={drive && hurt.has(drive.id) ? 700 : 400}
                  fill="var(--ink)"
                >
                  {bay}
                </text>
                {drive && (
                  <text
                    x={BAY_WIDTH / 2}
                    y={TALLEST + 49}
                    textAnchor="middle"
                    fontSize="11"
                    fill={hurt.has(drive.id) ? "var(--rust)" : "var(--faint)"}
                  >
                    {hurt.has(drive.id) ? situationWord(drive) : needed.has(drive.id) ? "leave in" : ""}
                  </text>
                )}
              </g>
            );
          })}
        </svg>
      </div>
    </section>
  );

  function said(drive: Drive | undefined, hurting: Set<number>, staying: Set<number>): string {
    if (!drive) return "empty";
    const what = hurting.has(drive.id)
      ? situationWord(drive)
      : staying.has(drive.id)
        ? "leave it in"
        : "not of this";
    return `${shortSize(drive.size, system)} ${drive.serial}, ${what}${drive.lit ? ", its lamp is lit" : ""}`;
  }
}
