/** What a laboratory would read of a drive: everything, hidden areas included. */
import { Text } from "@mantine/core";
import { useState } from "react";
import { type Schema, server } from "../../api/client";
import { Trouble, Waiting } from "../../shared/parts";

type Area = Schema["AreaOut"];

const NAMES: Record<string, string> = {
  "held back": "label and table",
  shown: "what it shows",
  protected: "protected capacity",
  reassigned: "reassigned extents",
  spare: "spare area",
};

export function Laboratory({ drive }: { drive: number }) {
  const [open, setOpen] = useState(false);
  return (
    <details style={{ marginTop: "1rem" }} onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary>What would a laboratory read?</summary>
      {open && <Read drive={drive} />}
    </details>
  );
}

function Read({ drive }: { drive: number }) {
  const found = server.useQuery("get", "/api/drives/{drive_id}/laboratory", {
    params: { path: { drive_id: drive } },
  });
  if (found.isPending) return <Waiting height={120} />;
  if (found.isLoadingError) return <Trouble error={found.error} />;
  return (
    <div style={{ marginTop: "0.5rem" }}>
      {found.data.areas.map((a) => (
        <Strip key={a.name} area={a} />
      ))}
      <Text size="sm" c="dimmed">
        Filled: a file of yours, legible. Hatched: bytes that say nothing by themselves. Empty: blank.
      </Text>
    </div>
  );
}

function Strip({ area }: { area: Area }) {
  const wide = 640;
  const each = wide / Math.max(1, area.strip.length);
  const segments = area.strip
    .map((s, i) => ({ at: i * each, fill: s === 2 ? "var(--rust)" : "url(#hatch)", empty: s === 0 }))
    .filter((x) => !x.empty);
  const said = [
    ...area.legible.map((l) => `${l.extents} GiB of ${l.files} file${l.files > 1 ? "s" : ""} of ${l.whose}`),
    area.noise ? `${area.noise} GiB of other bytes` : "",
    area.blank ? `${area.blank} GiB blank` : "",
  ].filter(Boolean);
  return (
    <div style={{ margin: "0.3rem 0 0.6rem" }}>
      <strong>{NAMES[area.name] ?? area.name}</strong>{" "}
      <span className={area.legible.length ? "rust" : "faint"}>{said.join(", ") || "nothing"}</span>
      <svg
        width="100%"
        height="16"
        viewBox={`0 0 ${wide} 16`}
        preserveAspectRatio="none"
        role="img"
        aria-label={`${NAMES[area.name] ?? area.name}: ${said.join(", ")}`}
      >
        <rect width={wide} height="16" fill="var(--sheet)" />
        {segments.map((x) => (
          <rect key={x.at} x={x.at} width={each + 0.2} height="16" fill={x.fill} />
        ))}
        <rect width={wide} height="16" fill="none" stroke="var(--ink)" strokeWidth="0.8" />
      </svg>
    </div>
  );
}
