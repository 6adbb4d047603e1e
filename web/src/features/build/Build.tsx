/** From a chosen layout to a change sheet: names, the first volume, where it is mounted. */

import { Autocomplete, Button, Checkbox, Group, Select, Stack, Text, TextInput } from "@mantine/core";
import { keepPreviousData } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import { drawUp, type Schema, server } from "../../api/client";
import { drivesIn, useAddress } from "../../shared/address";
import { useAsking } from "../../shared/form";
import { useMay } from "../../shared/me";
import { Act, Empty, errorOf, Heading, Trouble, Waiting } from "../../shared/parts";
import { formatSize, Size, useUnits } from "../../shared/units";
import { besides, nameOf } from "../compare/useQuestion";
import { FileSystemTable, shareOf } from "../pools/FileSystemTable";

const shareFor = (said: { file_system: string; reserved_share: string }) =>
  said.file_system === "none" ? null : shareOf(said.reserved_share);

export function Build() {
  const [params] = useAddress();
  const drives = drivesIn(params);
  const scheme = params.get("scheme") ?? "";
  const sets = Number(params.get("sets") ?? 1);
  const spares = Number(params.get("spares") ?? 0);
  const spread = scheme === "spread";
  const domain = params.get("domain") ?? "drive";
  const may = useMay("build-pools");
  const { system } = useUnits();
  const go = useNavigate();
  const hosts = server.useQuery("get", "/api/hosts");
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: {
      name: "",
      volume: "",
      // Null until it is touched: the largest that fits.
      volume_size: params.get("size") || null,
      thin: false,
      protection: params.get("protection") ?? "copies-2",
      file_system: params.get("fs") ?? "ext4",
      reserved_share: "",
      purpose: "",
      host: "",
      mount_point: "",
      spares_for: params.get("spares_for") ?? "pool",
      encrypted: false,
      backup_where: params.get("backup_where") ?? "",
      backup_age_hours: params.get("backup_age_hours") ?? "24",
      backup_link: params.get("backup_link") ?? "",
    },
    send: ({ protection, ...said }) => {
      const wanted = {
        ...said,
        scheme,
        drives,
        sets,
        spares,
        volume_size: said.volume_size ?? "",
        backup_age_hours: Number(said.backup_age_hours),
        reserved_share: shareFor(said),
        domain: spread ? domain : "",
        protection: spread && said.volume ? protection : "",
      } satisfies Schema["BuildPoolBody"];
      return drawUp("build-pool", wanted);
    },
    onSuccess: (sheet) => go(`/changes/${sheet.id}`),
  });
  const { thin, volume, file_system, volume_size } = form.values;
  const share = shareFor(form.values);
  const body = {
    drive_ids: drives,
    // The order of the sets, as the comparison arranged them.
    as_listed: true,
    scheme,
    sets,
    spares,
    file_system,
    reserved_share: share,
    volume_size: volume_size ?? "",
  };
  const cut = server.useQuery(
    "post",
    "/api/compare/cut",
    { body },
    {
      placeholderData: keepPreviousData,
      enabled: drives.length > 0 && !spread && !Number.isNaN(share),
      retry: false,
    },
  );
  if (!drives.length) {
    return (
      <Empty act="Compare layouts" to="/compare">
        Choose a layout first; it says which drives are used and how.
      </Empty>
    );
  }
  const atField = errorOf(cut.error, "reserved_share");
  if (cut.isLoadingError && !atField) return <Trouble error={cut.error} />;
  if (cut.isLoading) return <Waiting height={400} />;
  const room = cut.data?.volume;
  return (
    <div style={{ maxWidth: 860 }}>
      <Heading title="Build a pool">
        <Link to={spread ? "/compare?view=spread" : "/compare"}>back to the comparison</Link>
      </Heading>
      <p style={{ marginTop: 0 }}>
        {spread
          ? `A spread pool over ${drives.length} drives, its ${domain}s kept apart`
          : cut.data
            ? [nameOf(cut.data.layout), besides(cut.data.layout)].filter(Boolean).join("; ")
            : "The layout you chose"}
        . Next comes a change sheet that says exactly what will happen; nothing is touched before it is
        approved.
      </p>
      {params.get("further") && (
        <p style={{ marginTop: 0 }}>
          Also planned: {params.get("further")}. Add {params.get("further")?.includes(";") ? "them" : "it"} on
          the pool&apos;s page once the pool is there.
        </p>
      )}
      <form
        className="paper"
        onSubmit={(e) => {
          e.preventDefault();
          if (may.may && !Number.isNaN(share)) submit(e);
        }}
      >
        <Stack>
          <TextInput
            label="Name of the pool"
            placeholder="cold"
            data-autofocus
            required
            {...form.getInputProps("name")}
          />
          <TextInput
            label="Name of its first volume"
            description="May stay empty: volumes can be made later"
            placeholder="specimen-scans"
            {...form.getInputProps("volume")}
          />
          <Group align="flex-start" grow preventGrowOverflow={false}>
            <TextInput
              label="Size of the volume"
              description="Empty: the largest that fits"
              {...form.getInputProps("volume_size")}
              placeholder={room ? formatSize(room.largest, system) : undefined}
              value={volume_size ?? ""}
              error={(thin ? undefined : room?.problem) ?? form.errors.volume_size}
            />
            <Select
              label="Thick or thin"
              description={thin ? "Takes capacity as it is written" : "Has all its capacity from the start"}
              data={["thick", "thin"]}
              value={thin ? "thin" : "thick"}
              onChange={(v) => form.setFieldValue("thin", v === "thin")}
              allowDeselect={false}
            />
          </Group>
          {spread && (
            <TextInput
              label="Protection of the volume"
              description="copies-2, copies-3, parity-1:W or parity-2:W"
              {...form.getInputProps("protection")}
            />
          )}
          {room && (
            <Text aria-live="polite">
              {room.problem ? (
                "At the largest, "
              ) : (
                <>
                  The volume has <Size bytes={room.size} />;{" "}
                </>
              )}
              <strong>
                <Size bytes={room.for_files} />
              </strong>{" "}
              are left for files and <Size bytes={room.left_in_pool} /> in the pool.
            </Text>
          )}
          <FileSystemTable
            value={file_system}
            set={(v) => form.setFieldValue("file_system", v)}
            reserved={form.values.reserved_share}
            setReserved={(v) => form.setFieldValue("reserved_share", v)}
            error={form.errors.file_system}
            reservedError={atField ?? form.errors.reserved_share}
          />
          <TextInput
            label="What it is for"
            placeholder="large images, grows steadily"
            {...form.getInputProps("purpose")}
          />
          <Group align="flex-start" grow preventGrowOverflow={false}>
            <Autocomplete
              label="Host that uses it"
              description="May stay empty for now"
              {...form.getInputProps("host")}
              data={hosts.data?.hosts ?? []}
            />
            <TextInput
              label="Mount point"
              description="The folder on that host, or a drive letter"
              placeholder={volume ? `/srv/${volume}` : "/srv/specimen-scans"}
              {...form.getInputProps("mount_point")}
            />
          </Group>
          <Group align="flex-start" grow preventGrowOverflow={false}>
            <TextInput
              label="Backup: where it is"
              description="May stay empty: it can be recorded later"
              placeholder="tapes in the town hall"
              {...form.getInputProps("backup_where")}
            />
            <TextInput
              label="how old it gets, hours"
              description="What was written since is lost with the pool"
              {...form.getInputProps("backup_age_hours")}
            />
            <TextInput
              label="link to restore over"
              description="A backup counts with its link"
              placeholder="1 Gbit/s"
              {...form.getInputProps("backup_link")}
            />
          </Group>
          {spares > 0 && (
            <Select
              label={spares > 1 ? "The spares stand by for" : "The spare stands by for"}
              data={[
                { value: "pool", label: "this pool" },
                { value: "shelf", label: "any pool, for drives on the spare's shelf" },
                { value: "all", label: "all pools" },
              ]}
              {...form.getInputProps("spares_for")}
              allowDeselect={false}
            />
          )}
          <Checkbox
            label="Encrypt everything on it"
            description="Its passphrase is shown once, after approval. Lost passphrase, lost data."
            {...form.getInputProps("encrypted", { type: "checkbox" })}
          />
          <Trouble error={unplaced} />
          <Group>
            <Act why={may.why} type="submit" loading={sending.isPending}>
              Draw up the change sheet
            </Act>
            <Button variant="subtle" onClick={() => go(-1)}>
              Leave it
            </Button>
          </Group>
        </Stack>
      </form>
    </div>
  );
}
