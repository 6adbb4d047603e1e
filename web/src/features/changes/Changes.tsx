/** Changes: what runs, sheets that wait or were approved, and jobs that have ended. */
import { Button, Text } from "@mantine/core";
import { Link } from "react-router";
import { type Schema, server } from "../../api/client";
import { JobLine } from "../../shared/JobLine";
import { Empty, Heading, Trouble, Waiting } from "../../shared/parts";
import { formatWhen } from "../../shared/units";

export function Changes() {
  const open = server.useQuery("get", "/api/jobs", { params: { query: { which: "open", limit: 100 } } });
  return (
    <>
      <Heading title="Changes">
        <Link to="/changes/draw">Draw up a change</Link>
        <Link to="/draining">Draining</Link>
      </Heading>
      <div
        style={{
          display: "grid",
          gap: "1rem",
          gridTemplateColumns: "repeat(auto-fit, minmax(min(100%, 420px), 1fr))",
          alignItems: "start",
        }}
      >
        <div style={{ display: "grid", gap: "1rem" }}>
          <section className="paper" aria-label="Under way">
            <h2>Under way</h2>
            {open.isPending && <Waiting height={80} />}
            <Trouble error={open.error} />
            {open.data?.jobs.length === 0 && <Text c="dimmed">Nothing runs now.</Text>}
            {open.data?.jobs.map((job) => (
              <JobLine key={job.id} job={job} />
            ))}
          </section>
          <Ended />
        </div>
        <Sheets />
      </div>
    </>
  );
}

function Sheets() {
  const sheets = server.useInfiniteQuery(
    "get",
    "/api/sheets",
    { params: { query: { limit: 20 } } },
    {
      pageParamName: "before",
      initialPageParam: null,
      getNextPageParam: (page) => (page.more ? page.sheets[page.sheets.length - 1].id : undefined),
    },
  );
  if (sheets.isPending) return <Waiting />;
  if (sheets.isLoadingError) return <Trouble error={sheets.error} />;
  const all = sheets.data.pages.flatMap((p) => p.sheets);
  if (!all.length) {
    return (
      <Empty act="Compare layouts" to="/compare">
        No change has been drawn up yet. It begins with a comparison, of drives that are there or might be.
      </Empty>
    );
  }
  return (
    <section className="paper" aria-label="Change sheets">
      <h2>Change sheets</h2>
      <table className="plain">
        <tbody>
          {all.map((sheet) => (
            <tr key={sheet.id}>
              <td style={{ overflowWrap: "anywhere" }}>
                <Link to={`/changes/${sheet.id}`}>{sheet.title}</Link>
                {sheet.plan_id !== null && (
                  <>
                    {" "}
                    <Link className="faint" to={`/changes/plans/${sheet.plan_id}`}>
                      of a plan
                    </Link>
                  </>
                )}
              </td>
              <td
                className={sheet.state === "draft" && !sheet.stale ? "rust" : "faint"}
                style={{ whiteSpace: "nowrap" }}
                title={sheet.stale ?? undefined}
              >
                {standing(sheet)}
              </td>
              <td className="faint num">{formatWhen(sheet.approved_at ?? sheet.created_at)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {sheets.hasNextPage && (
        <Button variant="subtle" onClick={() => sheets.fetchNextPage()} loading={sheets.isFetchingNextPage}>
          Earlier ones
        </Button>
      )}
    </section>
  );
}

function standing(sheet: Schema["SheetLine"]): string {
  if (sheet.state === "draft") return sheet.stale ? "out of date" : "waits for approval";
  if (sheet.state === "approved") return sheet.done ? "done" : "under way";
  return sheet.state;
}

function Ended() {
  const ended = server.useInfiniteQuery(
    "get",
    "/api/jobs",
    { params: { query: { which: "ended", limit: 15 } } },
    {
      pageParamName: "before",
      initialPageParam: null,
      getNextPageParam: (page) => (page.more ? page.jobs[page.jobs.length - 1].id : undefined),
    },
  );
  const all = ended.data?.pages.flatMap((p) => p.jobs) ?? [];
  if (!all.length) return null;
  return (
    <section className="paper" aria-label="Ended">
      <h2>Ended</h2>
      <table className="plain">
        <tbody>
          {all.map((job) => (
            <tr key={job.id}>
              <td
                className={job.state === "failed" ? "rust" : undefined}
                style={{ overflowWrap: "anywhere" }}
              >
                {job.outcome ?? `${job.name} of ${job.pool} ended unfinished: ${job.error}`}
              </td>
              <td className="faint num">{job.finished_at && formatWhen(job.finished_at)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {ended.hasNextPage && (
        <Button variant="subtle" onClick={() => ended.fetchNextPage()}>
          Earlier ones
        </Button>
      )}
    </section>
  );
}
