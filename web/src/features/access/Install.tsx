/** A simulated application put onto a simulated host. */

import { Button, Group, Modal, Select, Stack, TextInput } from "@mantine/core";
import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schema } from "../../api/client";
import { ACCESS, about } from "../../api/keys";
import { useAsking } from "../../shared/form";
import { useMay } from "../../shared/me";
import { Act, Trouble } from "../../shared/parts";

export function Install({ host, kinds }: { host: string; kinds: Schema["HostsUseOut"]["kinds"] }) {
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const [open, setOpen] = useState(false);
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { name: "", kind: "recorder", owner: "", folder: "", size: "8 GiB" },
    send: (values) => ask(api.POST("/api/applications", { body: { ...values, host } })),
    onSuccess: () => {
      setOpen(false);
      client.invalidateQueries(about(...ACCESS));
    },
  });
  const fields = [
    ["name", "Name", "recorder"],
    ["owner", "Owner of its files", "recorder"],
    ["folder", "Its data folder", "/var/lib/recorder"],
    ["size", "Data it has already", "8 GiB"],
  ] as const;
  return (
    <>
      <Act size="xs" variant="subtle" why={may.why} onClick={() => setOpen(true)}>
        Add a simulated application…
      </Act>
      <Modal
        opened={open}
        onClose={() => setOpen(false)}
        title={`A simulated application on ${host}`}
        size="lg"
      >
        <form onSubmit={submit}>
          <Stack gap="sm">
            <Select
              label="Kind"
              description={kinds[form.values.kind]}
              data={Object.keys(kinds)}
              {...form.getInputProps("kind")}
              allowDeselect={false}
            />
            {fields.map(([name, label, placeholder]) => (
              <TextInput
                key={name}
                label={label}
                placeholder={placeholder}
                required
                {...form.getInputProps(name)}
              />
            ))}
            <Trouble error={unplaced} />
            <Group>
              <Button type="submit" loading={sending.isPending}>
                Add it
              </Button>
            </Group>
          </Stack>
        </form>
      </Modal>
    </>
  );
}
