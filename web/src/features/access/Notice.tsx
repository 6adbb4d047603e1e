/** The impact of an outage. Worked out from the layout and from who uses what; nothing is pulled. */

import { Select, Text, TextInput } from "@mantine/core";
import { useState } from "react";
import { Link } from "react-router";
import { type Schema, server } from "../../api/client";
import { useAddress } from "../../shared/address";
import { keyed } from "../../shared/keyed";
import { Heading, State, Trouble, Waiting } from "../../shared/parts";

const KINDS = ["drive", "shelf", "host", "site", "pool", "volume", "everything"] as const;
type Kind = (typeof KINDS)[number];
const WHAT: Record<Kind, string> = {
  drive: "Serial of the drive",
  shelf: "Name of the shelf: its link or its power",
  host: "Name of the host",
  site: "Name of the site",
  pool: "Name of the pool",
  volume: "The volume, as pool/volume",
  everything: "All that has power here",
};

export function Notice() {
  const [params, put] = useAddress();
  const kind = (params.get("kind") ?? "shelf") as Kind;
  const name = kind === "everything" ? "all" : (params.get("name") ?? "");
  const [typed, setTyped] = useState(name);
  // Back, or a link: what is asked stands in the box.
  const [asked, setAsked] = useState(name);
  if (asked !== name) {
    setAsked(name);
    setTyped(name);
  }
  const found = server.useQuery(
    "get",
    "/api/depends/pull",
    { params: { query: { kind, name } } },
    { enabled: name !== "", retry: false },
  );
  return (
    <>
      <Heading title="Impact of an outage">
        <span className="faint">worked out; nothing is switched off</span>
      </Heading>
      <form
        className="fields no-print"
        style={{ marginBottom: "1rem", alignItems: "flex-end" }}
        onSubmit={(e) => {
          e.preventDefault();
          put({ name: typed.trim() }, "anew");
        }}
      >
        <Select
          label="What"
          data={[...KINDS]}
          value={kind}
          w={130}
          onChange={(v) => {
            setTyped("");
            put({ kind: v ?? "shelf", name: null }, "anew");
          }}
          allowDeselect={false}
        />
        <TextInput
          display={kind === "everything" ? "none" : undefined}
          label={WHAT[kind]}
          value={typed}
          onChange={(e) => setTyped(e.currentTarget.value)}
          w={360}
          placeholder={kind === "shelf" ? "Loft" : undefined}
        />
        <button type="submit" className="figure" style={{ paddingBottom: 6 }}>
          Work it out
        </button>
      </form>
      {name === "" && (
        <p className="paper" style={{ margin: 0 }}>
          Choose a drive, a shelf, a host, a site, a pool or a volume. You see which pools lose drives, what
          they still survive, and every mount, share, target, application and person above.
        </p>
      )}
      {found.isError && <Trouble error={found.error} />}
      {name !== "" && found.isPending && <Waiting />}
      {found.data && <Shown notice={found.data} />}
    </>
  );
}

function Shown({ notice }: { notice: Schema["NoticeOut"] }) {
  // A host that goes stops what runs on it, though every volume can still be used.
  const hurt = notice.stands.some((s) => !s.serves) || notice.power?.safe === "no";
  return (
    <div className="stack">
      <section className="paper" aria-label="Answer">
        <h2>Without {notice.what}</h2>
        <p className={hurt ? "rust" : "pine"} style={{ margin: "0.4rem 0", fontWeight: 600 }}>
          {notice.sentence}
        </p>
        {keyed(notice.below).map(({ key, text }) => (
          <Text size="sm" c="dimmed" key={key}>
            {text}
          </Text>
        ))}
      </section>
      {notice.power && (
        <section className="paper" aria-label="Is it safe to power off?">
          <h2>Is it safe to power off?</h2>
          <p
            className={
              notice.power.safe === "yes" ? "pine" : notice.power.safe === "reduced" ? undefined : "rust"
            }
            style={{ margin: "0.4rem 0", fontWeight: 600 }}
          >
            {notice.power.sentence}
          </p>
          {notice.power.first.length > 0 && (
            <ol style={{ margin: "0.2rem 0" }}>
              {keyed(notice.power.first).map(({ key, text }) => (
                <li key={key}>{text}</li>
              ))}
            </ol>
          )}
          {keyed(notice.power.lines).map(({ key, text }) => (
            <Text size="sm" key={key}>
              {text}
            </Text>
          ))}
        </section>
      )}
      {notice.hits.map((h) => (
        <section className="paper" key={h.pool} aria-label={`Pool ${h.pool}`}>
          <div style={{ display: "flex", flexWrap: "wrap", gap: "0.3rem 1rem", alignItems: "baseline" }}>
            <h2>Pool {h.pool}</h2>
            <span>
              <State word={h.before} /> → <State word={h.after} />
            </span>
          </div>
          <p style={{ margin: "0.3rem 0" }}>{h.sentence}</p>
          {h.drives.length > 0 && (
            <Text size="sm" c="dimmed">
              loses {h.drives.join(", ")}
              {h.sets.length > 0 && `, of set ${h.sets.join(" and ")}`}
            </Text>
          )}
        </section>
      ))}
      {notice.stands.length > 0 && (
        <section className="paper" aria-label="What stands on it">
          <h2>What stands on it</h2>
          <div className="scroll-x" tabIndex={0}>
            <table className="plain stacks">
              <thead>
                <tr>
                  <th>Volume</th>
                  <th>can be used</th>
                  <th>mounted by</th>
                  <th>shares and targets</th>
                  <th>applications</th>
                  <th>people and hosts</th>
                </tr>
              </thead>
              <tbody>
                {notice.stands.map((s) => (
                  <tr key={s.volume}>
                    <td data-label="Volume">{s.volume}</td>
                    <td data-label="can be used" className={s.serves ? undefined : "rust"}>
                      {s.serves ? "yes" : "no"}
                    </td>
                    <td data-label="mounted by">{s.mounts.join(", ")}</td>
                    <td data-label="shares and targets" style={{ overflowWrap: "anywhere" }}>
                      {[...s.shares, s.target].filter(Boolean).join(", ")}
                    </td>
                    <td data-label="applications">{s.applications.join(", ")}</td>
                    <td data-label="people and hosts">{[...s.people, ...s.hosts].join(", ")}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </section>
      )}
      <Text size="sm">
        <Link to="/access/people">The way back: what a person's work stands on</Link>
      </Text>
    </div>
  );
}
