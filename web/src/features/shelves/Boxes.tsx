/** Simulated drives on their way: out of a shelf into a box (a file), and out of a box into free bays. */
import { Button, Chip, FileButton, Group, Select, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schema, sendFile, server } from "../../api/client";
import { useMay } from "../../shared/me";
import { Trouble } from "../../shared/parts";
import { shortSize, useUnits } from "../../shared/units";

export function UnpackBox() {
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const unpack = useMutation({
    mutationFn: (file: File) => sendFile<Schema["BesideOut"]>("/api/stand-in/unpack", file),
    onSuccess: () => client.invalidateQueries(),
  });
  if (!may.may) return null;
  return (
    <>
      <FileButton onChange={(file) => file && unpack.mutate(file)} accept="application/zip,.zip">
        {(props) => (
          <Button
            {...props}
            variant="default"
            loading={unpack.isPending}
            title="Simulated drives that were packed at another installation"
          >
            Unpack a box of drives
          </Button>
        )}
      </FileButton>
      {unpack.isError && <Trouble error={unpack.error} />}
    </>
  );
}

/** Drives that lie beside the shelves, and the shelf that they are put into. */
export function Beside({
  shelves,
}: {
  shelves: { id: number; name: string; site: string; bays: number; drives: number }[];
}) {
  const { system } = useUnits();
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const found = server.useQuery("get", "/api/stand-in/beside");
  const [shelf, setShelf] = useState<string | null>(null);
  const [left, setLeft] = useState<string[]>([]);
  const drives = found.data?.drives ?? [];
  const all = drives.map((d) => d.serial);
  const chosen = all.filter((s) => !left.includes(s));
  const roomy = shelves.filter((s) => s.bays - s.drives >= chosen.length);
  const into = shelf ?? (roomy.length ? String(roomy[0].id) : null);
  const put = useMutation({
    mutationFn: () =>
      ask(api.POST("/api/stand-in/beside", { body: { shelf_id: Number(into), serials: chosen } })),
    onSuccess: () => client.invalidateQueries(),
  });
  if (drives.length === 0) return null;
  return (
    <section
      className="paper"
      aria-label="Beside the shelves"
      style={{ margin: "0.8rem 0", borderStyle: "dashed" }}
    >
      <h2>Beside the shelves</h2>
      <p style={{ margin: "0.3rem 0 0.6rem" }}>
        {drives.length} simulated drive{drives.length === 1 ? "" : "s"}. Those not chosen stay where they lie.
      </p>
      <Chip.Group multiple value={chosen} onChange={(kept) => setLeft(all.filter((s) => !kept.includes(s)))}>
        <Group gap={6} mb="sm">
          {drives.map((d) => (
            <Chip key={d.serial} value={d.serial} size="xs" variant="outline">
              {d.serial} · {shortSize(d.size, system)}
            </Chip>
          ))}
        </Group>
      </Chip.Group>
      {may.may && (
        <Group align="flex-end" className="no-print">
          <Select
            label="Put them into free bays of"
            data={shelves.map((s) => ({
              value: String(s.id),
              label: `${s.name}, ${s.bays - s.drives} free`,
              disabled: s.bays - s.drives < chosen.length,
            }))}
            value={into}
            onChange={setShelf}
            allowDeselect={false}
            w={240}
          />
          <Button
            loading={put.isPending}
            disabled={into === null || chosen.length === 0}
            onClick={() => put.mutate()}
          >
            Put them in, in any order
          </Button>
          <Text size="sm" c="dimmed">
            Or one by one, by a click on an empty bay.
          </Text>
        </Group>
      )}
      {into === null && (
        <Text size="sm" c="dimmed">
          No shelf has so many free bays: add one, or put them in one by one.
        </Text>
      )}
      {put.isError && <Trouble error={put.error} />}
    </section>
  );
}
