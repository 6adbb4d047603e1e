/** What each file system brings, to choose one by its facts. */

import { Text, TextInput } from "@mantine/core";
import type { ReactNode } from "react";
import { useFileSystems } from "./VolumeActs";

const FACTS = ["snapshots", "quotas", "finds damage in", "shrinks", "largest volume"];

/** Per cent as typed, as the share that is asked for; null for the file system's own default, NaN for no number. */
export const shareOf = (percent: string) => {
  const typed = percent.replace("%", "").replace(",", ".").trim();
  return typed === "" ? null : Number(typed) / 100;
};

export function FileSystemTable({
  value,
  set,
  reserved,
  setReserved,
  error,
  reservedError,
}: {
  value: string;
  set: (id: string) => void;
  reserved: string;
  setReserved: (percent: string) => void;
  error?: ReactNode;
  reservedError?: ReactNode;
}) {
  const systems = useFileSystems();
  const all = systems.data?.file_systems ?? [];
  return (
    <fieldset style={{ border: "none", margin: 0, padding: 0, minWidth: 0 }}>
      <legend style={{ fontWeight: 500, fontSize: "0.9rem", padding: 0 }}>File system</legend>
      <div className="scroll-x" tabIndex={0}>
        <table className="plain stacks">
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
                  <td key={f} data-label={f}>
                    {fs.facts[f]}
                  </td>
                ))}
                <td style={{ minWidth: 170 }} data-label="suits">
                  <span>
                    {fs.suits}
                    {fs.asked_for_by.length > 0 && (
                      <Text size="xs" c="dimmed" component="span" display="block">
                        asked for by: {fs.asked_for_by.join(", ")}
                      </Text>
                    )}
                  </span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {error && <Text className="rust">{error}</Text>}
      {value !== "none" && (
        <TextInput
          label="Reserved share, per cent"
          description="Kept back by the file system; empty for its own default"
          mt="sm"
          maw={380}
          value={reserved}
          error={
            Number.isNaN(shareOf(reserved))
              ? "This is no number. Type per cent, such as 5, or leave it empty."
              : reservedError
          }
          onChange={(e) => setReserved(e.currentTarget.value)}
        />
      )}
    </fieldset>
  );
}
