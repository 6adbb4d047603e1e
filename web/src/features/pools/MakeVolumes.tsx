/** Volumes in a built pool: one, or several from a pattern, with what each file system brings. */
import { Button, Group, Select, Stack, TextInput } from "@mantine/core";
import { keepPreviousData } from "@tanstack/react-query";
import { useState } from "react";
import { type Schema, server } from "../../api/client";
import { useMayDo } from "../../shared/me";
import { Act, errorOf, Trouble } from "../../shared/parts";
import { Field, useDrawUp, type Values } from "../../shared/SheetForm";
import { Size } from "../../shared/units";
import { FileSystemTable, shareOf } from "./FileSystemTable";
import { useHosts } from "./VolumeActs";

const FIELDS = [
  "name",
  "size",
  "count",
  "protection",
  "file_system",
  "purpose",
  "host",
  "mount_point",
  "reserved_share",
];

export function MakeVolumes({ pool }: { pool: Schema["PoolOut"] }) {
  const [open, setOpen] = useState(false);
  const may = useMayDo("make-volumes");
  const away = ["lost", "unreachable"].includes(pool.state)
    ? "The pool does not serve now."
    : pool.locked
      ? "The pool is locked."
      : null;
  if (!open) {
    return (
      <div className="no-print">
        <Act why={may.why ?? away} variant="default" onClick={() => setOpen(true)}>
          Make volumes…
        </Act>
      </div>
    );
  }
  return <Form pool={pool} onClose={() => setOpen(false)} />;
}

function Form({ pool, onClose }: { pool: Schema["PoolOut"]; onClose: () => void }) {
  const hosts = useHosts();
  const draw = useDrawUp("make-volumes");
  const [values, setValues] = useState<Values>({
    name: "",
    size: "all",
    count: 1,
    thin: false,
    protection: "",
    file_system: "ext4",
    purpose: "",
    host: "",
    mount_point: "",
  });
  const [reserved, setReserved] = useState("");
  const set = (name: string) => (v: Values[string]) => setValues((before) => ({ ...before, [name]: v }));
  const protection = String(values.protection);
  const room = server.useQuery(
    "get",
    "/api/pools/{pool_id}/room",
    {
      params: { path: { pool_id: pool.id }, query: { protection } },
    },
    { placeholderData: keepPreviousData, retry: false, enabled: !pool.domain || protection !== "" },
  );
  const error = (name: string) => errorOf(draw.error, name);
  return (
    <section className="paper" aria-label="Make volumes">
      <h2>Make volumes</h2>
      <form
        autoComplete="off"
        onSubmit={(e) => {
          e.preventDefault();
          const share = values.file_system === "none" ? null : shareOf(reserved);
          if (Number.isNaN(share)) return;
          draw.mutate({ ...values, ...(share === null ? {} : { reserved_share: share }), pool: pool.name });
        }}
      >
        <Stack gap="sm" mt="xs">
          <Group align="flex-start" grow preventGrowOverflow={false}>
            <TextInput
              label="Name"
              description="Or a pattern: scans-{1..4}"
              required
              value={String(values.name)}
              error={error("name")}
              onChange={(e) => set("name")(e.currentTarget.value)}
            />
            <Field
              field={{
                name: "count",
                label: "So many alike",
                kind: "number",
                description: "Numbered -1, -2…",
              }}
              value={values.count}
              error={error("count")}
              set={set("count")}
            />
          </Group>
          {pool.domain && (
            <TextInput
              label="Protection"
              description={`copies-2, copies-3, parity-1:W or parity-2:W, over W ${pool.domain}s`}
              required
              value={protection}
              error={error("protection") ?? errorOf(room.error, "protection")}
              onChange={(e) => set("protection")(e.currentTarget.value)}
            />
          )}
          <Group align="flex-start" grow preventGrowOverflow={false}>
            <TextInput
              label="Size of each"
              description={
                room.data ? (
                  <>
                    “all”: <Size bytes={room.data.largest} />
                  </>
                ) : (
                  "“all” takes what is left"
                )
              }
              value={String(values.size)}
              error={error("size")}
              onChange={(e) => set("size")(e.currentTarget.value)}
            />
            <Select
              label="Thick or thin"
              description={
                values.thin ? "Takes capacity when it is written" : "Has all its capacity from the start"
              }
              data={["thick", "thin"]}
              value={values.thin ? "thin" : "thick"}
              onChange={(v) => set("thin")(v === "thin")}
              allowDeselect={false}
            />
          </Group>
          <TextInput
            label="Purpose"
            placeholder="scans of the old herbarium"
            value={String(values.purpose)}
            error={error("purpose")}
            onChange={(e) => set("purpose")(e.currentTarget.value)}
          />
          <FileSystemTable
            value={String(values.file_system)}
            set={set("file_system")}
            reserved={reserved}
            setReserved={setReserved}
            error={error("file_system")}
            reservedError={error("reserved_share")}
          />
          <Group align="flex-start" grow preventGrowOverflow={false}>
            <Select
              label="Host that mounts it"
              description="May stay empty"
              data={(hosts.data?.hosts ?? []).map((h) => h.name)}
              value={String(values.host)}
              error={error("host")}
              onChange={(v) => set("host")(v ?? "")}
              clearable
            />
            <TextInput
              label="Mount point"
              description="{name} stands for the volume's name"
              placeholder="/srv/{name}"
              value={String(values.mount_point)}
              error={error("mount_point")}
              onChange={(e) => set("mount_point")(e.currentTarget.value)}
            />
          </Group>
          {draw.isError && !errorOf(draw.error, ...FIELDS) && <Trouble error={draw.error} />}
          <Group>
            <Button type="submit" loading={draw.isPending}>
              Draw up the change sheet
            </Button>
            <Button variant="subtle" onClick={onClose}>
              Leave it
            </Button>
          </Group>
        </Stack>
      </form>
    </section>
  );
}
