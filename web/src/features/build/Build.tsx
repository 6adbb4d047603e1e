/** From a chosen layout to a change sheet: names, the first volume, where it is mounted. */

import { Autocomplete, Button, Checkbox, Group, Select, Stack, Text, TextInput } from "@mantine/core";
import { keepPreviousData } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { type Schema, server } from "../../api/client";
import { useMay } from "../../shared/me";
import { Act, Empty, errorOf, Heading, Trouble, Waiting } from "../../shared/parts";
import { useDrawUp } from "../../shared/SheetForm";
import { Size } from "../../shared/units";
import { nameOf } from "../compare/useQuestion";
import { FileSystemTable, shareOf } from "../pools/FileSystemTable";

const FIELDS = [
  "name",
  "volume",
  "volume_size",
  "size",
  "mount_point",
  "host",
  "file_system",
  "reserved_share",
  "protection",
  "purpose",
];

export function Build() {
  const [params] = useSearchParams();
  const drives = (params.get("drives") ?? "").split(",").filter(Boolean).map(Number);
  const scheme = params.get("scheme") ?? "";
  const sets = Number(params.get("sets") ?? 1);
  const spares = Number(params.get("spares") ?? 0);
  const [name, setName] = useState("");
  const [volume, setVolume] = useState("");
  // Null until it is touched: the largest that fits.
  const [typedSize, setSize] = useState<string | null>(params.get("size") || null);
  const size = typedSize ?? "";
  const [fileSystem, setFileSystem] = useState(params.get("fs") ?? "ext4");
  const [reserved, setReserved] = useState("");
  const [host, setHost] = useState("");
  const [mount, setMount] = useState("");
  const [thin, setThin] = useState(false);
  const [purpose, setPurpose] = useState("");
  const [encrypted, setEncrypted] = useState(false);
  const [sparesFor, setSparesFor] = useState(params.get("spares_for") ?? "pool");
  const spread = scheme === "spread";
  const domain = params.get("domain") ?? "drive";
  const [protection, setProtection] = useState(params.get("protection") ?? "copies-2");
  const may = useMay("build-pools");
  const go = useNavigate();
  const hosts = server.useQuery("get", "/api/hosts");
  const share = fileSystem === "none" ? null : shareOf(reserved);
  const body = {
    drive_ids: drives,
    // The order of the sets, as the comparison arranged them.
    as_listed: true,
    scheme,
    sets,
    spares,
    file_system: fileSystem,
    reserved_share: share,
    volume_size: size,
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
  const draw = useDrawUp("build-pool");
  const wanted = {
    name,
    scheme,
    drives,
    sets,
    spares,
    volume,
    volume_size: size,
    file_system: fileSystem,
    reserved_share: share,
    thin,
    purpose,
    mount_point: mount,
    host,
    spares_for: sparesFor,
    encrypted,
    domain: spread ? domain : "",
    protection: spread && volume ? protection : "",
  } satisfies Schema["BuildPoolBody"];
  if (!drives.length) {
    return (
      <Empty act="Compare layouts" to="/compare">
        Choose a layout first; it says which drives are used and how.
      </Empty>
    );
  }
  const atField = errorOf(cut.error, "reserved_share");
  if (cut.isError && !atField) return <Trouble error={cut.error} />;
  if (cut.isLoading) return <Waiting height={400} />;
  const room = cut.data?.volume;
  const unplaced = draw.isError && !errorOf(draw.error, ...FIELDS);
  return (
    <div style={{ maxWidth: 860 }}>
      <Heading title="Build a pool">
        <Link to={spread ? "/compare?view=spread" : "/compare"}>back to the comparison</Link>
      </Heading>
      <p style={{ marginTop: 0 }}>
        {spread
          ? `A spread pool over ${drives.length} drives, its ${domain}s kept apart`
          : cut.data
            ? nameOf(cut.data.layout)
            : "The layout you chose"}
        . Next comes a change sheet that says exactly what will happen; nothing is touched before it is
        approved.
      </p>
      <form
        className="paper"
        onSubmit={(e) => {
          e.preventDefault();
          if (may.may && !Number.isNaN(share)) draw.mutate(wanted);
        }}
      >
        <Stack>
          <TextInput
            label="Name of the pool"
            placeholder="cold"
            data-autofocus
            required
            value={name}
            error={errorOf(draw.error, "name")}
            onChange={(e) => setName(e.currentTarget.value)}
          />
          <TextInput
            label="Name of its first volume"
            description="May stay empty: volumes can be made later"
            placeholder="specimen-scans"
            value={volume}
            error={errorOf(draw.error, "volume")}
            onChange={(e) => setVolume(e.currentTarget.value)}
          />
          <Group align="flex-start" grow preventGrowOverflow={false}>
            <TextInput
              label="Size of the volume"
              description={room ? "Starts at the largest that fits" : "Empty: the largest that fits"}
              value={typedSize ?? (room ? `${room.largest / 2 ** 30} GiB` : "")}
              error={(thin ? undefined : room?.problem) ?? errorOf(draw.error, "volume_size", "size")}
              onChange={(e) => setSize(e.currentTarget.value)}
            />
            <Select
              label="Thick or thin"
              description={thin ? "Takes capacity as it is written" : "Has all its capacity from the start"}
              data={["thick", "thin"]}
              value={thin ? "thin" : "thick"}
              onChange={(v) => setThin(v === "thin")}
              allowDeselect={false}
            />
          </Group>
          {spread && (
            <TextInput
              label="Protection of the volume"
              description="copies-2, copies-3, parity-1:W or parity-2:W"
              value={protection}
              error={errorOf(draw.error, "protection")}
              onChange={(e) => setProtection(e.currentTarget.value)}
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
            value={fileSystem}
            set={setFileSystem}
            reserved={reserved}
            setReserved={setReserved}
            error={errorOf(draw.error, "file_system")}
            reservedError={atField ?? errorOf(draw.error, "reserved_share")}
          />
          <TextInput
            label="What it is for"
            placeholder="large images, grows steadily"
            value={purpose}
            error={errorOf(draw.error, "purpose")}
            onChange={(e) => setPurpose(e.currentTarget.value)}
          />
          <Group align="flex-start" grow preventGrowOverflow={false}>
            <Autocomplete
              label="Host that uses it"
              description="May stay empty for now"
              value={host}
              onChange={setHost}
              data={hosts.data?.hosts ?? []}
              error={errorOf(draw.error, "host")}
            />
            <TextInput
              label="Mount point"
              description="The folder on that host, or a drive letter"
              placeholder={volume ? `/srv/${volume}` : "/srv/specimen-scans"}
              value={mount}
              error={errorOf(draw.error, "mount_point")}
              onChange={(e) => setMount(e.currentTarget.value)}
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
              value={sparesFor}
              onChange={(v) => setSparesFor(v ?? "pool")}
              allowDeselect={false}
            />
          )}
          <Checkbox
            label="Encrypt everything on it"
            description="Its passphrase is shown once, after approval. Lost passphrase, lost data."
            checked={encrypted}
            onChange={(e) => setEncrypted(e.currentTarget.checked)}
          />
          {unplaced && <Trouble error={draw.error} />}
          <Group>
            <Act why={may.why} type="submit" loading={draw.isPending}>
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
