/** Signing in, and, once, creating the administrator. */
import { Button, PasswordInput, Stack, TextInput } from "@mantine/core";
import type { ReactNode } from "react";
import { useNavigate } from "react-router";
import { api, ask, Problem, server } from "../../api/client";
import { useAddress } from "../../shared/address";
import { useAsking } from "../../shared/form";
import type { Answers } from "../../shared/live";
import { useBecome } from "../../shared/me";
import { StandIns, Trouble } from "../../shared/parts";
import { Silence } from "../../shared/Silence";

/** Before signing in there is no stream; the server is asked every few seconds. */
function useHealth(): Answers {
  const health = server.useQuery("get", "/api/health", {}, { refetchInterval: 8000, retry: false });
  const error = health.error;
  const rest = { worker: true, watcher: true };
  if (!error) return { web: true, database: true, ...rest };
  return { web: error instanceof Problem && error.status > 0, database: false, ...rest };
}

function Frame({ title, children }: { title: string; children: ReactNode }) {
  const answers = useHealth();
  return (
    <main style={{ minHeight: "100vh", display: "grid", placeItems: "center", padding: "1rem" }}>
      <div style={{ width: "min(100%, 380px)" }}>
        <Silence answers={answers} />
        <svg viewBox="0 0 380 120" width="100%" aria-hidden="true">
          {[52, 70, 70, 88, 60, 88, 44].map((h, i) => (
            <rect
              // biome-ignore lint/suspicious/noArrayIndexKey: a drawing
              key={i}
              x={96 + i * 27}
              y={104 - h}
              width="22"
              height={h}
              rx="2"
              fill={i === 2 || i === 4 ? `url(#pool-${i})` : i === 3 ? "var(--pine)" : "var(--spine)"}
              stroke="var(--ink)"
              transform={i === 6 ? "rotate(9 280 104)" : undefined}
            />
          ))}
          <path d="M70 106h240" stroke="var(--board)" strokeWidth="5" />
        </svg>
        <div className="paper">
          <h1 style={{ marginBottom: "0.8rem" }}>{title}</h1>
          {children}
        </div>
      </div>
    </main>
  );
}

export function SignIn({ setupNeeded }: { setupNeeded: boolean }) {
  const become = useBecome();
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { name: "", password: "" },
    send: (body) => ask(api.POST("/api/sign-in", { body })),
    onSuccess: become,
  });
  if (setupNeeded) {
    return (
      <Frame title="Pair Shelf">
        <p style={{ margin: 0 }}>
          There is no administrator yet. Open the link that was printed where Pair Shelf was started; it works
          once.
        </p>
      </Frame>
    );
  }
  return (
    <Frame title="Pair Shelf">
      <form onSubmit={submit}>
        <Stack>
          <TextInput
            label="Name"
            {...form.getInputProps("name")}
            autoComplete="username"
            autoFocus
            required
          />
          <PasswordInput
            label="Password"
            {...form.getInputProps("password")}
            autoComplete="current-password"
            required
          />
          <Trouble error={unplaced} />
          <Button type="submit" loading={sending.isPending}>
            Sign in
          </Button>
        </Stack>
      </form>
    </Frame>
  );
}

export function Setup() {
  const [params] = useAddress();
  const become = useBecome();
  const go = useNavigate();
  const { form, sending, submit, unplaced } = useAsking({
    initialValues: { name: "", password: "", again: "" },
    validate: { again: (again, { password }) => (again === password ? null : "The two differ.") },
    send: ({ name, password }) =>
      ask(api.POST("/api/setup", { body: { token: params.get("token") ?? "", name, password } })),
    onSuccess: (me) => {
      become(me);
      go("/", { replace: true });
    },
  });
  return (
    <Frame title="Create the administrator">
      <StandIns />
      <form onSubmit={submit}>
        <Stack>
          <TextInput
            label="Your name here"
            {...form.getInputProps("name")}
            autoComplete="username"
            autoFocus
            required
          />
          <PasswordInput
            label="Password"
            description="At least 8 characters"
            {...form.getInputProps("password")}
            autoComplete="new-password"
            required
          />
          <PasswordInput
            label="Once more"
            {...form.getInputProps("again")}
            autoComplete="new-password"
            required
          />
          <Trouble error={unplaced} />
          <Button type="submit" loading={sending.isPending}>
            Create
          </Button>
        </Stack>
      </form>
    </Frame>
  );
}
