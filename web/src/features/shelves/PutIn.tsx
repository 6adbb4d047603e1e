/** Putting a simulated drive into an empty bay. Pair Shelf then finds it there by itself. */
import { Button, Group, Modal, SegmentedControl, Select, Stack, Text, TextInput } from "@mantine/core";
import { api, ask, server } from "../../api/client";
import { useAsking } from "../../shared/form";
import { Trouble } from "../../shared/parts";

export function PutIn({
  shelf,
  bay,
  onClose,
}: {
  shelf: { id: number; name: string };
  bay: number;
  onClose: () => void;
}) {
  const out = server.useQuery("get", "/api/drives/out").data?.drives ?? [];
  const beside = server.useQuery("get", "/api/stand-in/beside").data?.drives ?? [];
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { size: "14 TB", kind: "hdd" as "hdd" | "ssd" | "nvme", holds: "", serial: "" },
    send: ({ holds, serial, ...drive }) =>
      ask(
        api.POST("/api/stand-in/drives", {
          body: { shelf_id: shelf.id, bay, ...drive, holds: holds.trim() || null, serial: serial || null },
        }),
      ),
    onSuccess: onClose,
  });
  return (
    <Modal opened onClose={onClose} title={`Put a simulated drive into ${shelf.name} bay ${bay}`} centered>
      <form onSubmit={submit}>
        <Stack>
          <Text size="sm" c="dimmed">
            The drive holds real bytes at a scale of 4 KiB for each GiB. It shows up on the shelf as new
            within a second or two.
          </Text>
          {out.length + beside.length > 0 && (
            <Select
              label="Which drive"
              data={[
                { value: "", label: "Another one" },
                ...beside
                  .filter((b) => !out.some((d) => d.serial === b.serial))
                  .map((d) => ({ value: d.serial, label: `${d.serial}, lies beside the shelves` })),
                ...out.map((d) => ({
                  value: d.serial,
                  label: `${d.serial}${d.left ? `, was in ${d.left}` : ""}${d.pool ? `, of pool ${d.pool}` : ""}`,
                })),
              ]}
              allowDeselect={false}
              {...form.getInputProps("serial")}
            />
          )}
          {form.values.serial === "" && (
            <>
              <TextInput label="Size" data-autofocus {...form.getInputProps("size")} required />
              <SegmentedControl
                aria-label="Kind"
                {...form.getInputProps("kind")}
                data={[
                  { value: "hdd", label: "rotating" },
                  { value: "ssd", label: "flash" },
                  { value: "nvme", label: "flash on PCIe" },
                ]}
              />
              <TextInput
                label="Other data on it"
                description="Leave empty for a blank drive"
                {...form.getInputProps("holds")}
              />
            </>
          )}
          <Trouble error={unplaced} />
          <Group justify="flex-end">
            <Button variant="subtle" onClick={onClose}>
              Leave it
            </Button>
            <Button type="submit" loading={sending.isPending}>
              Put it in
            </Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}
