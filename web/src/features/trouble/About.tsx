/** One trouble of any other sort than a pool's drives: what still holds, the one right act, and what not to do now. */
import { Button } from "@mantine/core";
import { Link } from "react-router";
import { server } from "../../api/client";
import { useAddress } from "../../shared/address";
import { JobLine } from "../../shared/JobLine";
import { Trouble as Failed, useTitle, Waiting } from "../../shared/parts";
import { Blocked, Board, Happened, OneDrive } from "./InTrouble";

/** Most of what it stands on is told of; the rest is looked at now and then. */
const AGAIN = 15_000;

export function About() {
  const key = useAddress()[0].get("key") ?? "";
  const told = server.useQuery(
    "get",
    "/api/trouble/about",
    { params: { query: { key } } },
    { refetchInterval: AGAIN },
  );
  useTitle(told.data?.over ? "It is over" : told.data?.sentence);
  if (told.isPending) return <Waiting height={400} />;
  if (told.isLoadingError) return <Failed error={told.error} />;
  const { data } = told;
  if (data.over)
    return (
      <article className="paper trouble" aria-label="Trouble">
        <h1>This is over</h1>
        <p>Whatever it was, it is no longer so. There is nothing to be done about it.</p>
        <Happened lines={data.happened} />
        <p>
          <Link to="/">What else needs you</Link>
        </p>
      </article>
    );
  return (
    <article className="paper trouble" aria-label="Trouble">
      <h1 style={{ fontSize: "1.55rem" }}>{data.sentence}</h1>
      <p className="trouble-still">{data.still}</p>
      <section aria-label="What to do" className="trouble-must">
        <h2>{data.must}</h2>
        <p>{data.must_why}</p>
        {data.link && (
          <Button component={Link} to={data.link} size="md" color="rust">
            Go there
          </Button>
        )}
        {data.also.length > 0 && (
          <p style={{ marginBottom: 0 }}>
            This would do, too:{" "}
            {data.also.map((one, i) => (
              <span key={one.words}>
                {i > 0 && "; "}
                <Link to={one.link}>{one.words.charAt(0).toLowerCase() + one.words.slice(1)}</Link>
              </span>
            ))}
            .
          </p>
        )}
        {data.jobs.map((job) => (
          <JobLine key={job.id} job={job} plain />
        ))}
      </section>
      {data.drive && (
        <section aria-label="The drive">
          <OneDrive drive={data.drive} />
        </section>
      )}
      {data.shelf !== null && (
        <Board shelf={data.shelf} hurt={new Set([data.drive?.drive_id ?? -1])} needed={new Set()} />
      )}
      {data.blocked.length > 0 && (
        <section aria-label="Not now">
          <h2>Not now</h2>
          <Blocked acts={data.blocked} />
        </section>
      )}
      <Happened lines={data.happened} />
    </article>
  );
}
