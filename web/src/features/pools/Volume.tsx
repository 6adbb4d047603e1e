/** A volume, and the simulated host that uses it: writing sample files, reading them back. */

import { Button, Group, Select, Text, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schema } from "../../api/client";
import { EVERYTHING } from "../../api/keys";
import { useAsking } from "../../shared/form";
import { History } from "../../shared/History";
import { useMay } from "../../shared/me";
import { Act, Trouble } from "../../shared/parts";
import { fills, Ruler, useGrowth } from "../../shared/Ruler";
import { formatWhen, Size, typedSize, useUnits } from "../../shared/units";
import { Thresholds } from "./Room";
import { VolumeActs } from "./VolumeActs";

/** A share of its room for files, as a share of all of it. */
const shareOf = (volume: Schema["VolumeOut"], share: number | undefined) =>
  share === undefined ? undefined : (share * volume.for_files) / volume.size;

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
  const drop = useMutation({
    mutationFn: () =>
      ask(api.POST("/api/stand-in/delete-files", { body: { volume_id: volume.id, share: 0.5 } })),
    ...settle,
  });
  const held = may.why ?? closed;
  const ref = `${volume.pool}/${volume.name}`;
  const ruled = volume.keep_above !== null;
  const filled = fills(volume.held?.outlook);
  const growth = useGrowth(volume.held?.outlook);
  const [looking, setLooking] = useState(false);
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
      <Ruler
        label={`Volume ${volume.name}`}
        capacity={volume.size}
        given={volume.thin ? volume.held?.given : 0}
        written={volume.files_bytes}
        held={volume.overhead}
        tell={ruled ? undefined : shareOf(volume, volume.held?.tell)}
        urgent={ruled ? undefined : shareOf(volume, volume.held?.urgent)}
      />
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
      {!ruled && (filled || growth) && (
        <Text size="sm" mb={6}>
          {[filled && filled[0].toUpperCase() + filled.slice(1), growth].filter(Boolean).join("; ")}.
        </Text>
      )}
      {!ruled && volume.held && (
        <Thresholds of={{ volume: volume.id }} tell={volume.held.tell} urgent={volume.held.urgent} />
      )}
      <details
        onToggle={(event) => setLooking(event.currentTarget.open)}
        className="no-print"
        style={{ marginBottom: "0.6rem" }}
      >
        <summary className="opens">How it filled</summary>
        {looking && <History series={["volume-files"]} of={volume.id} named={`Volume ${volume.name}`} />}
      </details>
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
          <Link to={`/notice?kind=volume&name=${encodeURIComponent(ref)}`}>Impact of an outage</Link>
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
        <Act
          why={may.why ?? (volume.files ? null : "There are no files yet.")}
          size="xs"
          variant="default"
          loading={drop.isPending}
          onClick={() => drop.mutate()}
        >
          Delete half of them
        </Act>
      </Group>
      <Writes volume={volume} />
      <Trouble error={fill.error ?? read.error ?? drop.error} />
    </section>
  );
}

/** What simulated hosts write to it by themselves while days pass. */
function Writes({ volume }: { volume: Schema["VolumeOut"] }) {
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const { system } = useUnits();
  const [open, setOpen] = useState(false);
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { a_day: volume.writes_a_day ? typedSize(volume.writes_a_day, system) : "" },
    send: ({ a_day }) => ask(api.PUT("/api/stand-in/writes", { body: { volume_id: volume.id, a_day } })),
    onSuccess: () => {
      setOpen(false);
      client.invalidateQueries(EVERYTHING);
    },
  });
  return (
    <div className="no-print">
      <Text size="sm" c="dimmed" mt={6} component="div">
        {volume.writes_a_day ? (
          <>
            It writes <Size bytes={volume.writes_a_day} /> a day <Link to="/settings">while days pass</Link>.{" "}
          </>
        ) : (
          <>
            It writes nothing by itself <Link to="/settings">while days pass</Link>.{" "}
          </>
        )}
        {!open && (
          <Act why={may.why} size="compact-xs" variant="subtle" onClick={() => setOpen(true)}>
            Change
          </Act>
        )}
      </Text>
      {open && (
        <form onSubmit={submit}>
          <Group gap="xs" align="flex-end">
            <TextInput
              label="Written a day"
              size="xs"
              w={130}
              placeholder="20 GB"
              {...form.getInputProps("a_day")}
            />
            <Button type="submit" size="xs" loading={sending.isPending}>
              Keep
            </Button>
          </Group>
          <Trouble error={unplaced} />
        </form>
      )}
    </div>
  );
}
