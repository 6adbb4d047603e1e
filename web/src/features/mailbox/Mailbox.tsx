/** What has arrived in the mailbox, and at the hook, that stand in for those out there. */
import { Text } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, server } from "../../api/client";
import { about } from "../../api/keys";
import { useMay } from "../../shared/me";
import { Heading, StandIns, Tick, Trouble, Waiting } from "../../shared/parts";
import { formatWhen } from "../../shared/units";

export function Mailbox() {
  const client = useQueryClient();
  const may = useMay("work-stand-ins");
  const found = server.useQuery("get", "/api/stand-in/mailbox", {}, { refetchInterval: 3000 });
  const refuse = useMutation({
    mutationFn: (on: boolean) => ask(api.PUT("/api/stand-in/mailbox", { body: { on } })),
    onSettled: () => client.invalidateQueries(about("/api/stand-in/mailbox")),
  });
  if (found.isLoadingError) return <Trouble error={found.error} />;
  if (!found.data) return <Waiting />;
  const { letters, events } = found.data;
  return (
    <>
      <Heading title="Mailbox">
        <Text c="dimmed">what was sent, as it arrived</Text>
      </Heading>
      <StandIns />
      <Tick
        mb="md"
        checked={found.data.refuses}
        failed={refuse.isError}
        disabled={!may.may}
        onTick={(on) => refuse.mutate(on)}
        label="Refuse everything for now, as those out there sometimes do: what is sent is tried again"
      />
      <Trouble error={refuse.error} />
      <div
        className="side-by-side"
        style={{ gridTemplateColumns: "repeat(auto-fit, minmax(min(100%, 420px), 1fr))" }}
      >
        <section aria-label="Letters">
          <h2>Letters</h2>
          {letters.length === 0 && (
            <p>
              None yet. <Link to="/settings#messages">Say by which way you are told</Link>, and have a test
              sent.
            </p>
          )}
          {letters.map((letter) => (
            <article key={`${letter.at}${letter.to}`} className="paper letter" aria-label={letter.subject}>
              <div style={{ display: "flex", justifyContent: "space-between", gap: "1rem" }}>
                <strong>{letter.subject}</strong>
                <span className="faint num">{formatWhen(letter.at)}</span>
              </div>
              <Text size="sm" c="dimmed">
                to {letter.to}
              </Text>
              <pre>{letter.text}</pre>
            </article>
          ))}
        </section>
        <section aria-label="Events">
          <h2>Events at the hook</h2>
          {events.length === 0 && <p>None yet.</p>}
          {events.map((event) => (
            <article key={`${event.at}${event.body}`} className="paper letter" aria-label="Event">
              <Text size="sm" c="dimmed">
                {formatWhen(event.at)}
              </Text>
              <pre>{pretty(event.body)}</pre>
              <details>
                <summary className="opens">How it was signed</summary>
                <pre>
                  {Object.entries(event.headers)
                    .filter(([name]) => name.toLowerCase().startsWith("webhook"))
                    .map(([name, value]) => `${name}: ${value}`)
                    .join("\n")}
                </pre>
              </details>
            </article>
          ))}
        </section>
      </div>
    </>
  );
}

function pretty(body: string): string {
  try {
    return JSON.stringify(JSON.parse(body), null, 1);
  } catch {
    return body;
  }
}
