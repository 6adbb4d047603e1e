/** Signing in, and, once, creating the administrator. */
import { Button, PasswordInput, Stack, TextInput } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { type ReactNode, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { api, ask, Problem, server } from "../../api/client";
import type { Answers } from "../../shared/live";
import { useBecome } from "../../shared/me";
import { Trouble } from "../../shared/parts";
import { Silence } from "../../shared/Silence";

/** Before signing in there is no stream; the server is asked every few seconds. */
function useHealth(): Answers {
  const health = server.useQuery("get", "/api/health", {}, { refetchInterval: 8000, retry: false });
  const error = health.error;
  if (!error) return { web: true, database: true, worker: true };
  return { web: error instanceof Problem && error.status > 0, database: false, worker: true };
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
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const become = useBecome();
  const enter = useMutation({
    mutationFn: () => ask(api.POST("/api/sign-in", { body: { name, password } })),
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
      <form
        onSubmit={(e) => {
          e.preventDefault();
          enter.mutate();
        }}
      >
        <Stack>
          <TextInput
            label="Name"
            value={name}
            onChange={(e) => setName(e.currentTarget.value)}
            autoComplete="username"
            autoFocus
            required
          />
          <PasswordInput
            label="Password"
            value={password}
            onChange={(e) => setPassword(e.currentTarget.value)}
            autoComplete="current-password"
            required
          />
          <Trouble error={enter.error} />
          <Button type="submit" loading={enter.isPending}>
            Sign in
          </Button>
        </Stack>
      </form>
    </Frame>
  );
}

export function Setup() {
  const [params] = useSearchParams();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [again, setAgain] = useState("");
  const become = useBecome();
  const go = useNavigate();
  const create = useMutation({
    mutationFn: () =>
      ask(api.POST("/api/setup", { body: { token: params.get("token") ?? "", name, password } })),
    onSuccess: (me) => {
      become(me);
      go("/", { replace: true });
    },
  });
  const differ = again !== "" && again !== password;
  return (
    <Frame title="Create the administrator">
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (!differ) create.mutate();
        }}
      >
        <Stack>
          <TextInput
            label="Your name here"
            value={name}
            onChange={(e) => setName(e.currentTarget.value)}
            autoComplete="username"
            autoFocus
            required
          />
          <PasswordInput
            label="Password"
            description="At least 8 characters"
            value={password}
            onChange={(e) => setPassword(e.currentTarget.value)}
            autoComplete="new-password"
            required
          />
          <PasswordInput
            label="Once more"
            value={again}
            error={differ ? "The two differ." : undefined}
            onChange={(e) => setAgain(e.currentTarget.value)}
            autoComplete="new-password"
            required
          />
          <Trouble error={create.error} />
          <Button type="submit" loading={create.isPending}>
            Create
          </Button>
        </Stack>
      </form>
    </Frame>
  );
}
