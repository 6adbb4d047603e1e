/** Putting a simulated drive into an empty bay. Pair Shelf then finds it there by itself. */
import { Button, Group, Modal, SegmentedControl, Stack, Text, TextInput } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../../api/client";
import { errorOf, Trouble } from "../../shared/parts";

export function PutIn({
  shelf,
  bay,
  onClose,
}: {
  shelf: { id: number; name: string };
  bay: number;
  onClose: () => void;
}) {
  const [size, setSize] = useState("14 TB");
  const [kind, setKind] = useState<"hdd" | "ssd" | "nvme">("hdd");
  const [holds, setHolds] = useState("");
  const put = useMutation({
    mutationFn: () =>
      ask(
        api.POST("/api/stand-in/drives", {
          body: { shelf_id: shelf.id, bay, size, kind, holds: holds.trim() || null },
        }),
      ),
    onSuccess: onClose,
  });
  return (
    <Modal opened onClose={onClose} title={`Put a simulated drive into ${shelf.name} bay ${bay}`} centered>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          put.mutate();
        }}
      >
        <Stack>
          <Text size="sm" c="dimmed">
            The drive holds real bytes at a scale of 4 KiB for each GiB. It shows up on the shelf as new
            within a second or two.
          </Text>
          <TextInput
            label="Size"
            data-autofocus
            value={size}
            error={errorOf(put.error, "size")}
            onChange={(e) => setSize(e.currentTarget.value)}
            required
          />
          <SegmentedControl
            aria-label="Kind"
            value={kind}
            onChange={(v) => setKind(v as typeof kind)}
            data={[
              { value: "hdd", label: "rotating" },
              { value: "ssd", label: "flash" },
              { value: "nvme", label: "flash on PCIe" },
            ]}
          />
          <TextInput
            label="Other data on it"
            description="Leave empty for a blank drive"
            value={holds}
            onChange={(e) => setHolds(e.currentTarget.value)}
          />
          {put.isError && !errorOf(put.error, "size") && <Trouble error={put.error} />}
          <Group justify="flex-end">
            <Button variant="subtle" onClick={onClose}>
              Leave it
            </Button>
            <Button type="submit" loading={put.isPending}>
              Put it in
            </Button>
          </Group>
        </Stack>
      </form>
    </Modal>
  );
}
