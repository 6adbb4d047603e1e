/** A volume, and the simulated host that uses it: writing sample files, reading them back. */

import { Group, Select, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schema } from "../../api/client";
import { EVERYTHING } from "../../api/keys";
import { useMay } from "../../shared/me";
import { Act, Trouble } from "../../shared/parts";
import { formatWhen, Size } from "../../shared/units";
import { VolumeActs } from "./VolumeActs";

export function Volume({ volume, closed }: { volume: Schema["VolumeOut"]; closed: string | null }) {
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const [share, setShare] = useState("0.3");
  const path = { params: { path: { volume_id: volume.id } } };
  const settle = { onSettled: () => client.invalidateQueries(EVERYTHING) };
  const fill = useMutation({
    mutationFn: () =>
      ask(api.POST("/api/volumes/{volume_id}/fill", { ...path, body: { share: Number(share) } })),
    ...settle,
  });
  const read = useMutation({
    mutationFn: () => ask(api.POST("/api/volumes/{volume_id}/read-files", path)),
    ...settle,
  });
  const held = may.why ?? closed;
  const ref = `${volume.pool}/${volume.name}`;
  const taken = volume.files_bytes / volume.for_files;
  return (
    <section className="paper" aria-label={`Volume ${volume.name}`}>
      <h2>Volume {volume.name}</h2>
      <Text c="dimmed" mb={6}>
        {[
          volume.partition !== null && `partition ${volume.partition}`,
          volume.file_system === "none" ? "no file system" : volume.file_system,
          volume.partition === null && (volume.thin ? "thin" : "thick"),
          volume.protection,
          volume.purpose,
        ]
          .filter(Boolean)
          .join(", ")}
      </Text>
      <svg
        width="100%"
        height="16"
        role="img"
        aria-label={`${Math.round(taken * 100)} percent taken by files`}
        style={{ display: "block", overflow: "visible" }}
      >
        <rect
          x="0.5"
          y="0.5"
          width="99.9%"
          height="15"
          fill="var(--sheet)"
          stroke="var(--ink)"
          strokeWidth="0.8"
        />
        <rect
          x="0.5"
          y="0.5"
          width={`${Math.min(99.9, (100 * volume.files_bytes) / volume.size)}%`}
          height="15"
          fill="var(--pine)"
          opacity="0.75"
        />
        <rect
          x={`${100 - (100 * volume.overhead) / volume.size}%`}
          y="0.5"
          width={`${(100 * volume.overhead) / volume.size}%`}
          height="15"
          fill="url(#hatch)"
        />
      </svg>
      <Text size="sm" my={6}>
        <Size bytes={volume.files_bytes} /> of <Size bytes={volume.for_files} /> taken by{" "}
        {volume.files.toLocaleString("en")} files
        {volume.overhead > 0 && (
          <>
            ; <Size bytes={volume.overhead} /> held by the file system
          </>
        )}
        .{" "}
        {volume.files_read_at &&
          (volume.files_differing ? (
            <strong className="rust">{volume.files_differing} files differ from what was written.</strong>
          ) : (
            `All files read back as written, last ${formatWhen(volume.files_read_at)}.`
          ))}
      </Text>
      <div className="facts">
        {(volume.thin || volume.protection) && (
          <span>
            pool use{" "}
            <strong>
              <Size bytes={volume.pool_use} />
            </strong>
          </span>
        )}
        {volume.mounts.map((m) => (
          <span key={m.host + m.at} title={m.line}>
            mounted by{" "}
            <strong>
              {m.host} at {m.at}
            </strong>
            {m.read_only && ", read only"}
          </span>
        ))}
        {volume.shares.length > 0 && (
          <span>
            shared as <Link to="/access/shares">{volume.shares.join(", ")}</Link>
          </span>
        )}
        {volume.target && (
          <span>
            block target <Link to="/access/targets">{volume.target}</Link>
          </span>
        )}
        {volume.applications.length > 0 && (
          <span>
            written to by <strong>{volume.applications.join(", ")}</strong>
          </span>
        )}
        {volume.keep_above !== null && (
          <span>
            keeps recordings up to <strong>{Math.round(volume.keep_above * 100)} %</strong>
          </span>
        )}
        <span>
          <Link to={`/notice?kind=volume&name=${encodeURIComponent(ref)}`}>Pull this: who notices?</Link>
        </span>
      </div>
      {volume.fills_up && (
        <Text size="sm" className="rust" mt={4}>
          Recordings are written to it and nothing is ever deleted: when it is full, writing stops. Set a keep
          rule.
        </Text>
      )}
      <Text size="xs" c="dimmed" style={{ overflowWrap: "anywhere" }} mb="sm">
        {volume.file_system !== "none" && `UUID ${volume.uuid}`}
      </Text>
      <VolumeActs volume={volume} />
      <Group gap="sm" className="no-print" mt="sm">
        <Text size="sm" c="dimmed">
          Simulated host:
        </Text>
        <Select
          aria-label="How full"
          size="xs"
          w={112}
          value={share}
          onChange={(v) => setShare(v ?? "0.3")}
          data={["0.1", "0.3", "0.5", "0.8", "1"].map((s) => ({
            value: s,
            label: `to ${Number(s) * 100} % full`,
          }))}
          allowDeselect={false}
        />
        <Act why={held} size="xs" variant="default" loading={fill.isPending} onClick={() => fill.mutate()}>
          Write sample files
        </Act>
        <Act
          why={held ?? (volume.files ? null : "There are no files yet.")}
          size="xs"
          variant="default"
          loading={read.isPending}
          onClick={() => read.mutate()}
        >
          Read files back
        </Act>
      </Group>
      <Trouble error={fill.error ?? read.error} />
    </section>
  );
}
