/** The private address at which one's own calendar asks for what is planned. */
import { Group, Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, server } from "../../api/client";
import { about } from "../../api/keys";
import { Act, Trouble } from "../../shared/parts";
import { formatWhen } from "../../shared/units";

export function Calendar() {
  const client = useQueryClient();
  const address = server.useQuery("get", "/api/calendar-address");
  const planned = server.useQuery("get", "/api/schedules");
  const settle = { onSettled: () => client.invalidateQueries(about("/api/calendar-address")) };
  const make = useMutation({ mutationFn: () => ask(api.POST("/api/calendar-address")), ...settle });
  const drop = useMutation({
    mutationFn: () => ask(api.POST("/api/calendar-address/drop")),
    onSuccess: () => make.reset(),
    ...settle,
  });
  const there = address.data?.there;
  return (
    <section className="paper" aria-label="Your calendar" id="calendar">
      <h2>Your calendar</h2>
      {planned.data?.schedules.length === 0 ? (
        <Text size="sm">
          Nothing is planned. On a pool's page, its check and its surface scan can be done by the calendar.
        </Text>
      ) : (
        <table className="plain">
          <tbody>
            {planned.data?.schedules.map((s) => (
              <tr key={`${s.what}-${s.pool_id}`}>
                <td>
                  {s.name} of <Link to={`/pools/${s.pool_id}`}>{s.pool}</Link>
                </td>
                <td className="num">{s.waits ? "due, waits" : formatWhen(s.next_at)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <Text size="sm" my={6}>
        Any calendar program that can subscribe to an address shows them. Whoever knows the address can read
        them, and nothing else.
      </Text>
      {make.data?.address && (
        <p style={{ margin: "0.3rem 0", overflowWrap: "anywhere" }}>
          The address, shown this once: <strong>{make.data.address}</strong>
        </p>
      )}
      {there && (
        <Text size="sm" c="dimmed" mb={6}>
          {address.data?.read_at
            ? `A calendar asked last on ${formatWhen(address.data.read_at)}.`
            : "No calendar has asked yet."}
        </Text>
      )}
      <Group gap="xs">
        <Act size="xs" variant="default" loading={make.isPending} onClick={() => make.mutate()}>
          {there ? "Make a new address" : "Make an address"}
        </Act>
        {there && (
          <Act size="xs" variant="subtle" loading={drop.isPending} onClick={() => drop.mutate()}>
            Take it away
          </Act>
        )}
      </Group>
      <Trouble error={address.error ?? planned.error ?? make.error ?? drop.error} />
    </section>
  );
}
