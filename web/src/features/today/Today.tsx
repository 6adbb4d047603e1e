/** Today: what needs me, what runs, what finished while I was away. */
import { Button, Text } from "@mantine/core";
import { Link } from "react-router";
import { type Schema, server } from "../../api/client";
import { JobLine } from "../../shared/JobLine";
import { useMe } from "../../shared/me";
import { Heading, State, Trouble, Waiting } from "../../shared/parts";
import { fills, PoolRuler, RulerKey } from "../../shared/Ruler";
import { formatWhen, Size, shortSize, useUnits } from "../../shared/units";

export function Today() {
  const today = server.useQuery("get", "/api/today");
  const name = useMe().data?.user?.name ?? "";
  if (today.isPending) return <Waiting height={400} />;
  if (today.isLoadingError) return <Trouble error={today.error} />;
  const { matters, running, finished, since, glances } = today.data;
  return (
    <>
      <Heading title={`Good ${partOfDay()}, ${name}`} named="Today">
        <Totals today={today.data} />
      </Heading>
      <p className={today.data.well ? "verdict" : "verdict rust"} aria-live="polite">
        {today.data.verdict}
      </p>
      {glances.length > 0 && (
        <section className="paper" aria-label="Pools" style={{ marginBottom: "1rem" }}>
          <div style={{ display: "flex", gap: "0.2rem 1rem", alignItems: "baseline", flexWrap: "wrap" }}>
            <h2>Pools</h2>
            <RulerKey />
          </div>
          {glances.map((glance) => (
            <PoolLine key={glance.id} glance={glance} />
          ))}
          {today.data.more_pools > 0 && (
            <div style={{ marginTop: "0.5rem" }}>
              <Link to="/pools">{today.data.more_pools} more pools, of which nothing is to be said</Link>
            </div>
          )}
        </section>
      )}
      <section className="paper" aria-label="What needs you" style={{ marginBottom: "1rem" }}>
        <h2 style={{ marginBottom: "0.3rem" }}>What needs you</h2>
        {matters.length === 0 && <p style={{ margin: "0.3rem 0" }}>Nothing.</p>}
        {matters.map((m) => (
          <div
            key={m.sentence}
            style={{
              display: "flex",
              gap: "0.4rem 1rem",
              flexWrap: "wrap",
              alignItems: "center",
              padding: "0.5rem 0",
              borderTop: "1px solid var(--line)",
            }}
          >
            <span
              style={{
                flex: "1 1 320px",
                color: m.gravity < 2 ? "var(--rust)" : undefined,
                fontWeight: m.gravity === 0 ? 650 : 400,
              }}
            >
              {m.sentence}
            </span>
            {m.page && <Link to={m.page}>What happened, and what not to do</Link>}
            {m.act && (
              <Button
                component={Link}
                to={m.link}
                size="compact-md"
                variant={m.gravity < 2 ? "filled" : "default"}
                color={m.gravity < 2 ? "rust" : undefined}
              >
                {m.act}
              </Button>
            )}
          </div>
        ))}
      </section>
      <div
        style={{
          display: "grid",
          gap: "1rem",
          gridTemplateColumns: "repeat(auto-fit, minmax(min(100%, 400px), 1fr))",
          alignItems: "start",
        }}
      >
        <section className="paper" aria-label="What runs">
          <h2>What runs</h2>
          {running.length === 0 ? (
            <Text c="dimmed" mt={6}>
              Nothing runs now.
            </Text>
          ) : (
            running.map((job) => <JobLine key={job.id} job={job} />)
          )}
        </section>
        <section className="paper" aria-label="What finished">
          <h2>{since ? `Since you were here, ${formatWhen(since)}` : "In the last day"}</h2>
          {finished.length === 0 && (
            <Text c="dimmed" mt={6}>
              Nothing finished.
            </Text>
          )}
          {finished.map((entry) => (
            <Entry key={entry.id} entry={entry} />
          ))}
          <div style={{ marginTop: "0.5rem" }}>
            <Link to="/logbook">All of the logbook</Link>
          </div>
        </section>
      </div>
    </>
  );
}

/** A pool at a glance: how full, in what state, what may still fail, when it will be full, when it was checked. */
function PoolLine({ glance }: { glance: Schema["GlanceOut"] }) {
  const filled = fills(glance.outlook);
  return (
    <div className="pool-line">
      <div style={{ whiteSpace: "nowrap" }}>
        <svg width="12" height="19" aria-hidden="true" style={{ verticalAlign: "-5px", marginRight: 8 }}>
          <rect
            x=".5"
            y=".5"
            width="11"
            height="18"
            rx="2"
            fill={`url(#pool-${glance.tint % 8})`}
            stroke="var(--ink)"
          />
        </svg>
        <Link to={`/pools/${glance.id}`} style={{ fontWeight: 600 }}>
          {glance.name}
        </Link>{" "}
        <State word={glance.state} />
      </div>
      <PoolRuler glance={glance} />
      <div className="num">
        <Size bytes={glance.files} /> {glance.of_drives ? "of files on drives of" : "of"}{" "}
        <Size bytes={glance.capacity} />
      </div>
      <div className="faint pool-words">
        {[
          glance.still,
          glance.thin && glance.level > 0 ? `${Math.floor(glance.fullness * 100)} % full` : null,
          filled,
          glance.checked_at ? `checked ${formatWhen(glance.checked_at)}` : "never checked",
        ]
          .filter(Boolean)
          .join(" · ")}
      </div>
    </div>
  );
}

function Totals({ today }: { today: Schema["TodayOut"] }) {
  const { system } = useUnits();
  if (today.drives === 0) return null;
  return (
    <Text c="dimmed">
      {today.drives.toLocaleString("en")} drives with {shortSize(today.raw, system)},{" "}
      {today.free_drives.toLocaleString("en")} of them free · {today.pools} pool{today.pools === 1 ? "" : "s"}
      {today.pools > 0 && (
        <>
          {today.pool_capacity > 0 && `, ${shortSize(today.pool_capacity, system)} usable`}
          {today.spread_capacity > 0 &&
            `, ${shortSize(today.spread_capacity, system)} on drives of spread pools`}
          {` · ${shortSize(today.pool_files, system)} of files`}
        </>
      )}
    </Text>
  );
}

function Entry({ entry }: { entry: Schema["EntryOut"] }) {
  return (
    <div
      style={{
        display: "flex",
        gap: "0.9rem",
        padding: "0.35rem 0",
        borderTop: "1px solid var(--line)",
        marginTop: 4,
      }}
    >
      <span className="faint" style={{ whiteSpace: "nowrap" }}>
        {formatWhen(entry.at).slice(11)}
      </span>
      <span>{entry.sentence}</span>
    </div>
  );
}

function partOfDay(): string {
  const hour = new Date().getHours();
  return hour < 5 ? "night" : hour < 12 ? "morning" : hour < 18 ? "afternoon" : "evening";
}
