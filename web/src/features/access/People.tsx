/** Persons and groups that shares are for. */
import { Text } from "@mantine/core";
import { useState } from "react";
import { server } from "../../api/client";
import { Trouble, Waiting } from "../../shared/parts";
import { SheetAct } from "../../shared/SheetForm";
import { useParties } from "./Shares";

export function People() {
  const parties = useParties();
  const [looking, setLooking] = useState<string | null>(null);
  if (parties.isPending) return <Waiting height={300} />;
  if (parties.isLoadingError) return <Trouble error={parties.error} />;
  const all = parties.data.parties;
  const persons = all.filter((p) => p.members === null);
  const groups = all.filter((p) => p.members !== null);
  return (
    <div className="stack">
      <div className="acts no-print" style={{ marginTop: 0 }}>
        <SheetAct
          kind="add-party"
          title="Add a person"
          fields={[{ name: "name", label: "Name", required: true }]}
        >
          Add a person…
        </SheetAct>
        <SheetAct
          kind="add-party"
          title="Add a group"
          why={persons.length ? null : "Add the persons first."}
          fields={[
            { name: "name", label: "Name", required: true },
            { name: "members", label: "Members", kind: "tags", options: persons.map((p) => p.name) },
          ]}
        >
          Add a group…
        </SheetAct>
      </div>
      <section className="paper" aria-label="Persons">
        <h2>Persons</h2>
        {persons.length === 0 && <Text c="dimmed">Nobody yet.</Text>}
        <table className="plain">
          <tbody>
            {persons.map((p) => (
              <tr key={p.name}>
                <td style={{ width: "14rem" }}>{p.name}</td>
                <td className="faint">
                  {groups
                    .filter((g) => g.members?.includes(p.name))
                    .map((g) => g.name)
                    .join(", ")}
                </td>
                <td className="num">
                  <button
                    type="button"
                    className="figure"
                    onClick={() => setLooking(looking === p.name ? null : p.name)}
                  >
                    what their work stands on
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {looking && <Foundation name={looking} />}
      </section>
      <section className="paper" aria-label="Groups">
        <h2>Groups</h2>
        {groups.length === 0 && <Text c="dimmed">None yet.</Text>}
        <table className="plain">
          <tbody>
            {groups.map((g) => (
              <tr key={g.name}>
                <td style={{ width: "14rem" }}>{g.name}</td>
                <td>{g.members?.join(", ") || "nobody"}</td>
                <td className="num no-print">
                  <SheetAct
                    kind="set-members"
                    body={{ group: g.name }}
                    title={`Members of ${g.name}`}
                    fields={[
                      {
                        name: "members",
                        label: "Members",
                        kind: "tags",
                        options: persons.map((p) => p.name),
                        initial: g.members ?? [],
                      },
                    ]}
                  >
                    Members…
                  </SheetAct>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
    </div>
  );
}

function Foundation({ name }: { name: string }) {
  const found = server.useQuery("get", "/api/depends/person", { params: { query: { name } } });
  if (found.isPending) return <Waiting height={60} />;
  if (found.isLoadingError) return <Trouble error={found.error} />;
  if (!found.data.lines.length) return <Text mt="xs">{name} has no right on any share.</Text>;
  return (
    <div style={{ marginTop: "0.6rem" }}>
      {found.data.lines.map((line) => (
        <p key={line.join()} style={{ margin: "0.2rem 0" }}>
          {name} → {line.join(" → ")}
        </p>
      ))}
    </div>
  );
}
