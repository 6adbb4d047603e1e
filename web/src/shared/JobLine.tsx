/** A job: how far it is, how long still, what it waits for; gentle or fast, pause and resume. */

import { Button, Group, Progress, SegmentedControl, Text, Tooltip } from "@mantine/core";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, ask, type Schema } from "../api/client";
import { EVERYTHING } from "../api/keys";
import { useMay } from "./me";
import { Act } from "./parts";
import { SheetAct } from "./SheetForm";
import { TERMS } from "./terms";
import { formatHours } from "./units";

type Job = Schema["JobOut"];

export function JobLine({ job, plain }: { job: Job; plain?: boolean }) {
  const client = useQueryClient();
  const may = useMay("run-jobs");
  const settle = { onSettled: () => client.invalidateQueries(EVERYTHING) };
  const path = { path: { job_id: job.id } };
  const pause = useMutation({
    mutationFn: () => ask(api.POST("/api/jobs/{job_id}/pause", { params: path })),
    ...settle,
  });
  const resume = useMutation({
    mutationFn: () => ask(api.POST("/api/jobs/{job_id}/resume", { params: path })),
    ...settle,
  });
  const pace = useMutation({
    mutationFn: (to: "gentle" | "fast") =>
      ask(api.PUT("/api/jobs/{job_id}/pace", { params: path, body: { pace: to } })),
    ...settle,
  });
  const end = useMutation({
    mutationFn: () => ask(api.POST("/api/jobs/{job_id}/end", { params: path })),
    ...settle,
  });
  const open = !["done", "failed"].includes(job.state);
  const error = pause.error ?? resume.error ?? pace.error ?? end.error;
  return (
    <article aria-label={`${job.name} of ${job.pool}`} style={{ padding: "0.55rem 0" }}>
      <Group justify="space-between" gap="xs" align="baseline">
        <span>
          <strong>{job.name}</strong>
          {!plain && job.pool_id !== null && (
            <>
              {" of "}
              <Link to={`/pools/${job.pool_id}`}>{job.pool}</Link>
            </>
          )}
          {!plain && job.kind === "scan" && job.report.serial && (
            <>
              {" of drive "}
              <Link to={`/shelves?filter=${encodeURIComponent(`serial:${job.report.serial}`)}`}>
                {job.report.serial}
              </Link>
            </>
          )}
          {!plain && job.pool_id === null && job.kind !== "scan" && (
            <>
              {" · "}
              <Link to="/disposal">disposal</Link>
            </>
          )}
          {!plain && job.drain_id !== null && (
            <>
              {" · "}
              <Link to="/draining">draining</Link>
            </>
          )}
          {job.volume && <span className="faint"> · {job.volume}</span>}
        </span>
        <Text size="sm" c={job.state === "failed" ? "var(--rust)" : "dimmed"}>
          {saying(job)}
        </Text>
      </Group>
      {open && (
        <>
          <Progress
            value={job.progress * 100}
            my={6}
            size="sm"
            color={job.state === "held" ? "rust" : "pine"}
            aria-label={`${job.name}: ${Math.floor(job.progress * 100)} percent`}
            transitionDuration={400}
          />
          <Group gap="sm" className="no-print">
            <Text size="sm" c="dimmed" style={{ flex: "1 1 220px" }}>
              {job.state === "held" ? `Held: ${job.why_held}.` : timeLeft(job)}
            </Text>
            {may.may && job.pace && (
              <Tooltip label={`${TERMS.fast} ${TERMS.gentle}`} multiline w={300} openDelay={400}>
                <SegmentedControl
                  size="xs"
                  aria-label="Pace"
                  value={job.pace}
                  onChange={(v) => pace.mutate(v as "gentle" | "fast")}
                  data={[
                    { value: "gentle", label: "gentle" },
                    { value: "fast", label: "fast" },
                  ]}
                />
              </Tooltip>
            )}
            {job.kind === "move-volume" && job.volume && (
              <SheetAct kind="leave-move" body={{ volume: `${job.pool}/${job.volume}` }}>
                Leave it off
              </SheetAct>
            )}
            {job.may_end && (job.state === "paused" || job.state === "held") && (
              <Act why={may.why} size="compact-sm" variant="subtle" onClick={() => end.mutate()}>
                End it
              </Act>
            )}
            {job.state === "paused" ? (
              <Act why={may.why} size="compact-sm" onClick={() => resume.mutate()}>
                Resume
              </Act>
            ) : may.may ? (
              <Button
                size="compact-sm"
                variant="default"
                loading={pause.isPending}
                onClick={() => pause.mutate()}
              >
                Pause
              </Button>
            ) : null}
          </Group>
        </>
      )}
      {job.outcome && !plain && <Text size="sm">{job.outcome}</Text>}
      {job.error && <Text c="var(--rust)">{job.error}</Text>}
      {error && <Text c="var(--rust)">{error.message}</Text>}
    </article>
  );
}

function saying(job: Job): string {
  if (job.state === "done") return job.finished_at ? "finished" : "done";
  if (job.state === "failed") return "ended unfinished";
  const percent = `${Math.floor(job.progress * 100)} %`;
  return job.state === "running" ? percent : `${job.state}, ${percent}`;
}

function timeLeft(job: Job): string {
  const range =
    job.hours_left_at_pace > job.hours_left * 1.02
      ? `${formatHours(job.hours_left)} to ${formatHours(job.hours_left_at_pace)}`
      : formatHours(job.hours_left);
  if (job.state === "paused") return `Paused; ${range} of drive time left.`;
  const here =
    job.wait_seconds === null
      ? ""
      : job.wait_seconds < 1
        ? ""
        : `, about ${formatHours(job.wait_seconds / 3600)} here`;
  return `${range} of drive time left${here}. This page may be closed.`;
}
