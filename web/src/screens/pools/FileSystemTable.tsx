/** What each file system brings, to choose one by its facts. */
import { Text } from "@mantine/core";
import { useFileSystems } from "./VolumeActs";

const FACTS = ["snapshots", "quotas", "finds damage in", "shrinks", "largest volume"];

export function FileSystemTable({ value, set }: { value: string; set: (id: string) => void }) {
  const systems = useFileSystems();
  const all = systems.data?.file_systems ?? [];
  return (
    <fieldset style={{ border: "none", margin: 0, padding: 0, minWidth: 0 }}>
      <legend style={{ fontWeight: 500, fontSize: "0.9rem", padding: 0 }}>File system</legend>
      <div className="scroll-x" tabIndex={0}>
        <table className="plain">
          <thead>
            <tr>
              <th />
              {FACTS.map((f) => (
                <th key={f}>{f}</th>
              ))}
              <th>suits</th>
            </tr>
          </thead>
          <tbody>
            {all.map((fs) => (
              <tr key={fs.id} className={fs.id === value ? "picked" : undefined}>
                <td style={{ whiteSpace: "nowrap" }}>
                  <label style={{ cursor: "pointer" }}>
                    <input
                      type="radio"
                      name="file-system"
                      checked={fs.id === value}
                      onChange={() => set(fs.id)}
                      style={{ accentColor: "var(--pine)", margin: "0 0.4rem 0 0" }}
                    />
                    {fs.id}
                  </label>
                </td>
                {FACTS.map((f) => (
                  <td key={f}>{fs.facts[f]}</td>
                ))}
                <td style={{ minWidth: 170 }}>
                  {fs.suits}
                  {fs.asked_for_by.length > 0 && (
                    <Text size="xs" c="dimmed">
                      asked for by: {fs.asked_for_by.join(", ")}
                    </Text>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </fieldset>
  );
}
