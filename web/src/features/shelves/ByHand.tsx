/** Shelves and drives written down by hand, put right, and taken out of the books. */
import { Button, Group, Menu, Modal, NumberInput, Stack, Text, Textarea, TextInput } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { download } from "../../shared/download";
import { useAsking } from "../../shared/form";
import { History } from "../../shared/History";
import { useMay, useMayDo } from "../../shared/me";
import { Act, Trouble } from "../../shared/parts";
import { useDrawUp } from "../../shared/SheetForm";
import { useSelection } from "../../shared/selection";
import { useWithoutPower } from "./withoutPower";

const HOW = "Groups such as 8x4TB hdd, or a line for each drive: its serial, then its size and kind";

/** The fields of a new shelf, with its drives if they are typed. */
export function NewShelf({ onDone, onLeave }: { onDone?: () => void; onLeave?: () => void }) {
  const client = useQueryClient();
  const may = useMay("manage-drives");
  const { replace } = useSelection();
  const { form, sending, submit, unplaced, attention } = useAsking({
    initialValues: { name: "", bays: 8 as number | string, drives: "", host: "", site: "" },
    send: ({ bays, ...said }) =>
      ask(api.POST("/api/shelves", { body: { ...said, bays: Number(bays) || 0 } })),
    onSuccess: (made) => {
      client.invalidateQueries();
      // What was just written down is what is to be looked at next.
      if (made.drive_ids.length) replace(made.drive_ids);
      onDone?.();
    },
  });
  return (
    <form onSubmit={submit} autoComplete="off">
      <Stack gap="sm">
        <Group align="flex-start" grow preventGrowOverflow={false}>
          <TextInput
            label="Name of the shelf"
            description="What people call the box"
            placeholder="Tower"
            required
            data-autofocus
            {...form.getInputProps("name")}
          />
          <NumberInput
            label="Bays"
            description="Places for drives"
            min={1}
            required
            {...form.getInputProps("bays")}
          />
        </Group>
        <Textarea
          label="Drives in it"
          description={`${HOW}. May stay empty.`}
          placeholder="8x4TB hdd"
          autosize
          minRows={2}
          {...form.getInputProps("drives")}
        />
        <Group align="flex-start" grow preventGrowOverflow={false}>
          <TextInput
            label="Host it hangs on"
            description="May stay empty"
            placeholder="oak"
            {...form.getInputProps("host")}
          />
          <TextInput label="Site" description="Empty: the site there is" {...form.getInputProps("site")} />
        </Group>
        <Trouble error={unplaced} />
        <Group>
          <Act type="submit" why={may.why} loading={sending.isPending}>
            Add shelf
          </Act>
          {attention && <span className="rust">{attention}</span>}
          {onLeave && (
            <Button variant="subtle" onClick={onLeave}>
              Cancel
            </Button>
          )}
        </Group>
      </Stack>
    </form>
  );
}

export function AddShelf() {
  const may = useMay("manage-drives");
  const [open, setOpen] = useState(false);
  return (
    <>
      <Act why={may.why} variant="default" onClick={() => setOpen(true)}>
        Add a shelf…
      </Act>
      <Modal opened={open} onClose={() => setOpen(false)} title="Add a shelf" size="lg">
        <NewShelf onDone={() => setOpen(false)} onLeave={() => setOpen(false)} />
      </Modal>
    </>
  );
}

/** Another name, number of bays, site or host for a shelf; its drives stay in their bays. */
function EditShelf({ shelf, onClose }: { shelf: Schema["ShelfOut"]; onClose: () => void }) {
  const client = useQueryClient();
  const { form, sending, submit, unplaced, attention } = useAsking({
    initialValues: {
      name: shelf.name,
      bays: shelf.bays as number | string,
      host: shelf.host ?? "",
      site: shelf.site,
    },
    send: ({ bays, ...said }) =>
      ask(
        api.PUT("/api/shelves/{shelf_id}", {
          params: { path: { shelf_id: shelf.id } },
          body: { ...said, bays: Number(bays) || 0 },
        }),
      ),
    onSuccess: () => {
      client.invalidateQueries();
      onClose();
    },
  });
  return (
    <Modal opened onClose={onClose} title={`Edit shelf ${shelf.name}`} size="lg">
      <form onSubmit={submit} autoComplete="off">
        <Stack gap="sm">
          <Group align="flex-start" grow preventGrowOverflow={false}>
            <TextInput label="Name" required data-autofocus {...form.getInputProps("name")} />
            <NumberInput label="Number of drive bays" min={1} required {...form.getInputProps("bays")} />
          </Group>
          <Group align="flex-start" grow preventGrowOverflow={false}>
            <TextInput
              label="Connected to host"
              description="Empty: none. A new name adds the host."
              {...form.getInputProps("host")}
            />
            <TextInput label="Site" {...form.getInputProps("site")} />
          </Group>
          <Trouble error={unplaced} />
          <Group>
            <Button type="submit" loading={sending.isPending}>
              Save
            </Button>
            <Button variant="subtle" onClick={onClose}>
              Cancel
            </Button>
            {attention && <span className="rust">{attention}</span>}
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}

/** Drives typed into the empty bays of a shelf; a shelf without drives can leave. */
export function ShelfActs({
  shelf,
  inUse,
  draining,
}: {
  shelf: Schema["ShelfOut"];
  /** How many of its drives belong to a pool, and how many of those are being emptied. */
  inUse: number;
  draining: number;
}) {
  const drain = useDrawUp("drain");
  const mayDrain = useMayDo("drain");
  const client = useQueryClient();
  const may = useMay("manage-drives");
  const mayPack = useMay("work-stand-ins");
  const pack = useMutation({
    mutationFn: () =>
      download(
        "/api/stand-in/box",
        { shelf_id: shelf.id },
        `drives-of-${shelf.name.replace(/\W+/g, "-")}.zip`,
      ),
    onSettled: () => client.invalidateQueries(),
  });
  const [open, setOpen] = useState(false);
  const [looking, setLooking] = useState(false);
  const [editing, setEditing] = useState(false);
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { drives: "" },
    send: (body) =>
      ask(api.POST("/api/shelves/{shelf_id}/drives", { params: { path: { shelf_id: shelf.id } }, body })),
    onSuccess: (_, form) => {
      client.invalidateQueries();
      form.reset();
      setOpen(false);
    },
  });
  const remove = useMutation({
    mutationFn: () =>
      ask(api.DELETE("/api/shelves/{shelf_id}", { params: { path: { shelf_id: shelf.id } } })),
    onSuccess: () => client.invalidateQueries(),
  });
  const { unplugged, hostOff } = useWithoutPower()(shelf);
  const power = useMutation({
    mutationFn: (body: { what: string; id: number; on: boolean }) =>
      ask(api.POST("/api/stand-in/switch", { body })),
    onSettled: () => client.invalidateQueries(),
  });
  if (!may.may) return null;
  return (
    <span
      className="no-print"
      style={{ display: "inline-flex", gap: "0.6rem", fontSize: "0.85rem", color: "var(--faint)" }}
    >
      {shelf.drives < shelf.bays && (
        <button type="button" className="figure" onClick={() => setOpen(true)}>
          add drives…
        </button>
      )}
      {draining > 0 && (
        <Link to="/draining">{draining === inUse ? "being emptied" : `${draining} being emptied`}</Link>
      )}
      {shelf.drives === 0 && (
        <button type="button" className="figure" onClick={() => setEditing(true)}>
          edit…
        </button>
      )}
      {editing && <EditShelf shelf={shelf} onClose={() => setEditing(false)} />}
      {shelf.drives > 0 && (
        <Menu position="bottom-start">
          <Menu.Target>
            <button type="button" className="figure" aria-label={`More for shelf ${shelf.name}`}>
              …
            </button>
          </Menu.Target>
          <Menu.Dropdown>
            <Menu.Item onClick={() => setEditing(true)}>Edit shelf…</Menu.Item>
            {draining === 0 && inUse > 0 && (
              <Menu.Item
                disabled={!mayDrain.may || drain.isPending}
                title={mayDrain.why ?? undefined}
                onClick={() => drain.mutate({ shelves: [`${shelf.site}/${shelf.name}`] })}
              >
                Drain it
              </Menu.Item>
            )}
            <Menu.Item
              component={Link}
              to={`/notice?kind=shelf&name=${encodeURIComponent(`${shelf.site}/${shelf.name}`)}`}
            >
              Is it safe to power off?
            </Menu.Item>
            <Menu.Item onClick={() => setLooking(true)}>What its drives did, over time</Menu.Item>
            {mayPack.may && (
              <Menu.Item
                disabled={power.isPending}
                onClick={() => power.mutate({ what: "shelf", id: shelf.id, on: false })}
              >
                Unplug it (simulated)
              </Menu.Item>
            )}
            {mayPack.may && shelf.host_id !== null && (
              <Menu.Item
                disabled={power.isPending}
                onClick={() => power.mutate({ what: "host", id: shelf.host_id ?? 0, on: false })}
              >
                {`Switch host ${shelf.host} off (simulated)`}
              </Menu.Item>
            )}
            {mayPack.may && (
              <Menu.Item disabled={pack.isPending} onClick={() => pack.mutate()}>
                Pack its drives into a box (simulated)
              </Menu.Item>
            )}
          </Menu.Dropdown>
        </Menu>
      )}
      {pack.isPending && <span>packing…</span>}
      <Trouble error={drain.error ?? pack.error ?? power.error} />
      {(unplugged || hostOff) && mayPack.may && (
        <button
          type="button"
          className="figure rust"
          onClick={() =>
            power.mutate(
              unplugged
                ? { what: "shelf", id: shelf.id, on: true }
                : { what: "host", id: shelf.host_id ?? 0, on: true },
            )
          }
        >
          {unplugged
            ? "unplugged: plug it in (simulated)"
            : `host ${shelf.host} is off: switch it on (simulated)`}
        </button>
      )}
      {shelf.drives === 0 && !unplugged && !hostOff && (
        <button type="button" className="figure" onClick={() => remove.mutate()}>
          take the shelf away
        </button>
      )}
      <Trouble error={remove.error} />
      <Modal
        opened={looking}
        onClose={() => setLooking(false)}
        title={`${shelf.name}${shelf.host ? ` and its host ${shelf.host}` : ""}, over time`}
        size="xl"
      >
        <Stack gap="lg">
          <History
            series={["link-drives"]}
            of={shelf.id}
            named={`Shelf ${shelf.name}`}
            title={`Drives of ${shelf.name} that answer`}
          />
          <History
            series={["link-throughput"]}
            of={shelf.id}
            named={`Link of ${shelf.name}`}
            title={`Moved over the link of ${shelf.name}, while loads are played`}
          />
          {shelf.host_id !== null && (
            <>
              <History
                series={["host-drives"]}
                of={shelf.host_id}
                named={`Host ${shelf.host}`}
                title={`Drives of ${shelf.host} that answer`}
              />
              <History
                series={["host-throughput"]}
                of={shelf.host_id}
                named={`Host ${shelf.host}`}
                title={`Moved by ${shelf.host}, while loads are played`}
              />
            </>
          )}
        </Stack>
      </Modal>
      <Modal opened={open} onClose={() => setOpen(false)} title={`Drives in ${shelf.name}`} size="lg">
        <form onSubmit={submit} autoComplete="off">
          <Stack gap="sm">
            <Textarea
              label="Drives"
              description={`${HOW}. They go into the first empty bays.`}
              placeholder="8x4TB hdd"
              autosize
              minRows={2}
              required
              data-autofocus
              {...form.getInputProps("drives")}
            />
            <Trouble error={unplaced} />
            <Group>
              <Button type="submit" loading={sending.isPending}>
                Add drives
              </Button>
              <Button variant="subtle" onClick={() => setOpen(false)}>
                Cancel
              </Button>
            </Group>
          </Stack>
        </form>
      </Modal>
    </span>
  );
}

/** Drives of the house that are in no bay. */
export function OutOfBays({ onShow }: { onShow: (id: number) => void }) {
  const found = server.useQuery("get", "/api/drives/out");
  if (!found.data?.drives.length) return null;
  return (
    <section className="paper" aria-label="In no bay" style={{ margin: "1rem 0 0" }}>
      <h2>In no bay</h2>
      <Text size="sm" c="dimmed">
        They are recognised wherever they are put in: click an empty bay.
      </Text>
      <table className="plain" style={{ marginTop: "0.4rem" }}>
        <tbody>
          {found.data.drives.map((d) => (
            <tr key={d.id}>
              <td>
                <button type="button" className="figure" onClick={() => onShow(d.id)}>
                  {d.serial}
                </button>
              </td>
              <td>{[d.maker, d.model].filter(Boolean).join(" ")}</td>
              <td className="faint">{d.left ? `was in ${d.left}` : ""}</td>
              <td>{d.pool ? `of pool ${d.pool}` : (d.holds ?? "")}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

/** What can be put right by hand, with how it is written. */
const FACTS: [name: string, label: string, hint: string][] = [
  ["maker", "Maker", "Osmund"],
  ["model", "Model", "Keel"],
  ["use", "Intended use", "archive"],
  ["property_number", "Property number", "FH-0312"],
  ["price", "Price", "249.00 EUR"],
  ["in_service", "In service since", "2026-03-31"],
  ["rate", "Mean sequential rate", "180 MB/s"],
  ["afr", "Yearly failure rate", "1.5 %"],
  ["uber", "Unreadable bits (UBER)", "1e-15"],
  ["rated_writes", "Rated writes", "600 TB"],
  ["max_temperature", "Maximum temperature", "60 °C"],
  ["error_recovery", "Error-recovery limit", "7 s"],
  ["holds", "Other data on it", ""],
  ["size", "Size", "4 TB"],
  ["kind", "Kind", "hdd"],
];

/** The acts on a drive's place in the books. */
export function DriveActs({ drive }: { drive: Schema["DriveOut"] }) {
  const may = useMay("manage-drives");
  const [open, setOpen] = useState<"facts" | "leave" | null>(null);
  const close = () => setOpen(null);
  return (
    <Group gap={6} mt="sm" className="no-print">
      <Act size="compact-sm" variant="default" why={may.why} onClick={() => setOpen("facts")}>
        Put facts right…
      </Act>
      <Act size="compact-sm" variant="default" why={may.why ?? drive.stays} onClick={() => setOpen("leave")}>
        It leaves the house…
      </Act>
      {open === "facts" && <PutRight drive={drive} onClose={close} />}
      {open === "leave" && <Leave drive={drive} onClose={close} />}
    </Group>
  );
}

function PutRight({ drive, onClose }: { drive: Schema["DriveOut"]; onClose: () => void }) {
  const client = useQueryClient();
  const fields = FACTS.filter(([name]) => drive.service !== "in-use" || !["size", "kind"].includes(name));
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: Object.fromEntries(fields.map(([name]) => [name, ""])) as Record<string, string>,
    send: (said) =>
      ask(
        api.PATCH("/api/drives/{drive_id}", {
          params: { path: { drive_id: drive.id } },
          body: { facts: Object.fromEntries(Object.entries(said).filter(([, typed]) => typed.trim())) },
        }),
      ),
    onSuccess: () => {
      client.invalidateQueries();
      onClose();
    },
  });
  const empty = !Object.values(form.values).some((typed) => typed.trim());
  return (
    <Modal opened onClose={onClose} title={`Facts of drive ${drive.serial}`} size="lg">
      <form onSubmit={submit} autoComplete="off">
        <Text size="sm" c="dimmed" mb="sm">
          Fill in what is wrong; what stays empty stays as it is. What stood there before is kept in the
          logbook.
        </Text>
        <div className="fields">
          {fields.map(([name, label, hint]) => (
            <TextInput
              key={name}
              label={label}
              placeholder={hint}
              w={220}
              size="xs"
              {...form.getInputProps(name)}
            />
          ))}
        </div>
        <Trouble error={unplaced} />
        <Group mt="md">
          <Act type="submit" why={empty ? "Nothing is filled in yet." : null} loading={sending.isPending}>
            Put it right
          </Act>
          <Button variant="subtle" onClick={onClose}>
            Cancel
          </Button>
        </Group>
      </form>
    </Modal>
  );
}

function Leave({ drive, onClose }: { drive: Schema["DriveOut"]; onClose: () => void }) {
  const client = useQueryClient();
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { to: "" },
    send: ({ to }) => ask(api.POST("/api/drives/retire", { body: { ids: [drive.id], to } })),
    onSuccess: () => {
      client.invalidateQueries();
      onClose();
    },
  });
  return (
    <Modal opened onClose={onClose} title={`Drive ${drive.serial} leaves the house`} centered>
      <form onSubmit={submit} autoComplete="off">
        <Stack gap="sm">
          <Text size="sm">
            Its bay is free at once, and it is offered no more. The books keep it with where it went; this is
            not undone.
          </Text>
          {drive.holds && (
            <Text size="sm" className="rust">
              It holds {drive.holds}. It is not wiped by leaving.
            </Text>
          )}
          <TextInput
            label="Where it goes"
            placeholder="returned under warranty"
            required
            data-autofocus
            {...form.getInputProps("to")}
          />
          <Trouble error={unplaced} />
          <Group>
            <Button type="submit" loading={sending.isPending}>
              It has left
            </Button>
            <Button variant="subtle" onClick={onClose}>
              Cancel
            </Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}
