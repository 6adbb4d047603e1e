/** Volumes in a built pool: one, or several from a pattern, with what each file system brings. */
import { Button, Group, NumberInput, Select, Stack, TextInput } from "@mantine/core";
import { keepPreviousData } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import { drawUp, type Schema, server } from "../../api/client";
import { useAsking } from "../../shared/form";
import { useMayDo } from "../../shared/me";
import { Act, errorOf, Trouble } from "../../shared/parts";
import { Size } from "../../shared/units";
import { FileSystemTable, shareOf } from "./FileSystemTable";
import { useHosts } from "./VolumeActs";

export function MakeVolumes({ pool }: { pool: Schema["PoolOut"] }) {
  const [open, setOpen] = useState(false);
  const may = useMayDo("make-volumes");
  if (!open) {
    return (
      <div className="no-print">
        <Act why={may.why ?? pool.why_closed} variant="default" onClick={() => setOpen(true)}>
          Make volumes…
        </Act>
      </div>
    );
  }
  return <Form pool={pool} onClose={() => setOpen(false)} />;
}

function Form({ pool, onClose }: { pool: Schema["PoolOut"]; onClose: () => void }) {
  const hosts = useHosts();
  const go = useNavigate();
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: {
      name: "",
      size: "all",
      count: 1 as number | string,
      thin: false,
      protection: "",
      file_system: "ext4",
      reserved_share: "",
      purpose: "",
      host: "",
      mount_point: "",
    },
    validate: { reserved_share: (typed) => (Number.isNaN(shareOf(typed)) ? "This is no number." : null) },
    send: ({ reserved_share, count, ...said }) => {
      const share = said.file_system === "none" ? null : shareOf(reserved_share);
      const more = share === null ? {} : { reserved_share: share };
      return drawUp("make-volumes", { ...said, ...more, count: Number(count) || 0, pool: pool.name });
    },
    onSuccess: (sheet) => go(`/changes/${sheet.id}`),
  });
  const { protection, thin } = form.values;
  const room = server.useQuery(
    "get",
    "/api/pools/{pool_id}/room",
    {
      params: { path: { pool_id: pool.id }, query: { protection } },
    },
    { placeholderData: keepPreviousData, retry: false, enabled: !pool.domain || protection !== "" },
  );
  return (
    <section className="paper" aria-label="Make volumes">
      <h2>Make volumes</h2>
      <form autoComplete="off" onSubmit={submit}>
        <Stack gap="sm" mt="xs">
          <Group align="flex-start" grow preventGrowOverflow={false}>
            <TextInput
              label="Name"
              description="Or a pattern: scans-{1..4}"
              required
              {...form.getInputProps("name")}
            />
            <NumberInput
              label="So many alike"
              description="Numbered -1, -2…"
              {...form.getInputProps("count")}
            />
          </Group>
          {pool.domain && (
            <TextInput
              label="Protection"
              description={`copies-2, copies-3, parity-1:W or parity-2:W, over W ${pool.domain}s`}
              required
              {...form.getInputProps("protection")}
              error={form.errors.protection ?? errorOf(room.error, "protection")}
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
              {...form.getInputProps("size")}
            />
            <Select
              label="Thick or thin"
              description={thin ? "Takes capacity when it is written" : "Has all its capacity from the start"}
              data={["thick", "thin"]}
              value={thin ? "thin" : "thick"}
              onChange={(v) => form.setFieldValue("thin", v === "thin")}
              allowDeselect={false}
            />
          </Group>
          <TextInput
            label="Purpose"
            placeholder="scans of the old herbarium"
            {...form.getInputProps("purpose")}
          />
          <FileSystemTable
            value={form.values.file_system}
            set={(v) => form.setFieldValue("file_system", v)}
            reserved={form.values.reserved_share}
            setReserved={(v) => form.setFieldValue("reserved_share", v)}
            error={form.errors.file_system}
            reservedError={form.errors.reserved_share}
          />
          <Group align="flex-start" grow preventGrowOverflow={false}>
            <Select
              label="Host that mounts it"
              description="May stay empty"
              data={(hosts.data?.hosts ?? []).map((h) => h.name)}
              {...form.getInputProps("host")}
              onChange={(v) => form.setFieldValue("host", v ?? "")}
              clearable
            />
            <TextInput
              label="Mount point"
              description="{name} stands for the volume's name"
              placeholder="/srv/{name}"
              {...form.getInputProps("mount_point")}
            />
          </Group>
          <Trouble error={unplaced} />
          <Group>
            <Button type="submit" loading={sending.isPending}>
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
