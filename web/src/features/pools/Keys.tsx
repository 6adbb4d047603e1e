/** An encrypted pool: locked or open, and its passphrase. */

import { Button, Group, PasswordInput, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { api, ask, type Schema } from "../../api/client";
import { about } from "../../api/keys";
import { useAsking } from "../../shared/form";
import { useMay } from "../../shared/me";
import { useShowOnce } from "../../shared/once";
import { Act, Trouble } from "../../shared/parts";

export function Keys({ pool }: { pool: Schema["PoolOut"] }) {
  const client = useQueryClient();
  const may = useMay("keep-keys");
  const showOnce = useShowOnce();
  const path = { params: { path: { pool_id: pool.id } } };
  const settle = {
    onSuccess: () => client.invalidateQueries(about("/api/pools/{pool_id}")),
  };
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { passphrase: "" },
    send: (body) => ask(api.POST("/api/pools/{pool_id}/unlock", { ...path, body })),
    onSuccess: (_, form) => {
      form.reset();
      settle.onSuccess();
    },
  });
  const lock = useMutation({
    mutationFn: () => ask(api.POST("/api/pools/{pool_id}/lock", path)),
    ...settle,
  });
  const anew = useMutation({
    mutationFn: () => ask(api.POST("/api/pools/{pool_id}/passphrase", path)),
    onSuccess: (got) => showOnce({ pool: pool.name, poolId: pool.id, passphrase: got.passphrase }),
  });
  const kept = useMutation({
    mutationFn: () => ask(api.POST("/api/pools/{pool_id}/passphrase-kept", path)),
    ...settle,
  });
  return (
    <section className="paper" aria-label="Encryption">
      <h2>Encryption</h2>
      {pool.locked ? (
        <form onSubmit={submit}>
          <Text className="rust">Locked. Its volumes cannot be read or written.</Text>
          <PasswordInput
            label="Passphrase"
            {...form.getInputProps("passphrase")}
            autoComplete="off"
            my="xs"
          />
          <Trouble error={unplaced} />
          <Act
            loading={sending.isPending}
            why={may.why ?? (form.values.passphrase ? null : "Type the passphrase.")}
            type="submit"
          >
            Unlock
          </Act>
        </form>
      ) : (
        <>
          {!pool.passphrase_kept && (
            <Text className="rust" mb="xs">
              Nobody has said that its passphrase is kept. Have another one made now, and write it down: once
              the pool is locked without it, all its data are lost.
            </Text>
          )}
          <Text>Unlocked; everything on the drives is encrypted. A restart of this machine locks it.</Text>
          <Group mt="xs" className="no-print">
            <Act size="xs" variant="default" why={may.why} onClick={() => lock.mutate()}>
              Lock
            </Act>
            {may.may && !pool.passphrase_kept && (
              <Button size="xs" variant="default" onClick={() => kept.mutate()}>
                It is kept
              </Button>
            )}
            {may.may && (
              <Button
                size="xs"
                variant={pool.passphrase_kept ? "subtle" : "filled"}
                onClick={() => anew.mutate()}
              >
                Another passphrase
              </Button>
            )}
          </Group>
          <Trouble error={lock.error ?? anew.error ?? kept.error} />
        </>
      )}
    </section>
  );
}
