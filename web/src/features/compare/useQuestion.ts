/** The question of a comparison. All of it stands in the address, so a link is the question. */
import { useDebouncedValue } from "@mantine/hooks";
import { useCallback, useEffect, useMemo, useRef } from "react";
import type { Schema } from "../../api/client";
import { drivesIn, type Put, useAddress } from "../../shared/address";
import { useSelection } from "../../shared/selection";
import { survivesAny } from "../../shared/survives";

export type Body = Schema["CompareBody"];
export type Layout = Schema["LayoutOut"];

/** Address fields that are numbers, and those that are words, by their name in the question. */
const NUMBERS = [
  "survive",
  "survive_shelves",
  "survive_hosts",
  "spares",
  "rebuild_limit",
  "widest",
  "budget",
  "bays_free",
  "afr",
  "uber",
  "ops",
  "replace_hours",
  "user_share",
  "user_writes",
  "whole_stripes",
  "price",
  "tariff",
  "backup_age_hours",
] as const;
const WORDS = ["need", "spares_for", "workload", "rate", "network", "backup_where", "backup_link"] as const;
/** Typed in per cent, asked as shares. */
const PERCENT = new Set<string>(["afr", "user_share", "whole_stripes"]);

export type Field = (typeof NUMBERS)[number] | (typeof WORDS)[number];

export interface Question {
  get: (name: string) => string;
  put: Put;
  what: string;
  drives: number[];
  typed: string;
  ready: boolean;
  /** The question as it is asked, a moment after the last change. */
  body: Body;
  /** The question and its address, after the question mark, as they are at this moment: for what is kept, sent or handed on,
   * whatever is drawn as yet. */
  asItIs: () => { body: Body; address: string };
}

/** A question whose last answer was long in coming is asked only once the typing rests. */
const LONG = 150;
let slow = false;

export function tookSoLong(milliseconds: number): void {
  slow = milliseconds > LONG;
}

export function useQuestion(): Question {
  const [params, put] = useAddress();
  const { ids } = useSelection();
  const asked = useMemo(() => questionOf(params, ids), [params, ids]);
  // Drives that come from the shelves stand in the address from now on, so that a copied address has them.
  const fromShelves = !params.has("drives") && asked.what === "shelves" ? asked.drives.join(",") : "";
  useEffect(() => {
    if (fromShelves) put({ drives: fromShelves });
  }, [fromShelves, put]);
  const now = JSON.stringify(asked.asked);
  const [later] = useDebouncedValue(now, 200);
  const settled = slow ? later : now;
  const body = useMemo(() => JSON.parse(settled) as Body, [settled]);
  const latest = useRef(asked);
  latest.current = asked;
  const asItIs = useCallback(
    () => ({ body: latest.current.asked as Body, address: latest.current.address }),
    [],
  );
  return useMemo(() => {
    const { asked: _asked, address: _address, ...rest } = asked;
    return { ...rest, get: (name: string) => params.get(name) ?? "", put, body, asItIs };
  }, [asked, params, put, body, asItIs]);
}

function questionOf(params: URLSearchParams, ids: ReadonlySet<number>) {
  const get = (name: string) => params.get(name) ?? "";
  const what = get("what") || (ids.size || params.has("drives") ? "shelves" : "what-if");
  const drives = params.has("drives") ? drivesIn(params) : [...ids].sort((a, b) => a - b);
  const typed = get("what-if");
  const asked: Record<string, unknown> = {
    ...(what === "what-if" ? { shorthand: typed } : { drive_ids: drives }),
    file_system: get("fs") || "ext4",
    mix_kinds: get("mix") === "yes",
    larger_later: get("larger") === "yes",
    // As older addresses have it.
    ...(get("stripes") === "whole" && { whole_stripes: 1 }),
  };
  for (const name of NUMBERS)
    if (get(name) !== "" && Number.isFinite(Number(get(name))))
      asked[name] = PERCENT.has(name) ? Number(get(name)) / 100 : Number(get(name));
  for (const name of WORDS) if (get(name)) asked[name] = get(name);
  const whole = new URLSearchParams(params);
  whole.delete("saved");
  if (what === "shelves" && drives.length) whole.set("drives", drives.join(","));
  const ready = what === "what-if" ? typed.trim() !== "" : drives.length > 0;
  return { what, drives, typed, ready, asked, address: whole.toString() };
}

/** What a layout's key says, for asking about it alone. */
export function chosenBody(body: Body, layout: Layout): Schema["CutBody"] {
  const {
    need: _need,
    survive: _survive,
    survive_shelves: _shelves,
    survive_hosts: _hosts,
    workload,
    rebuild_limit: _limit,
    widest: _widest,
    budget: _budget,
    bays_free: _bays,
    mix_kinds: _mix,
    larger_later: _larger,
    spares: _spares,
    ...shared
  } = body;
  return {
    ...shared,
    workload: workload ?? "general",
    scheme: layout.scheme,
    sets: layout.sets.length,
    spares:
      body.spares_for === "shelf" ? (body.spares ?? (layout.spares.length ? 1 : 0)) : layout.spares.length,
    arranged: layout.arranged,
    part: layout.part,
    failed: [],
    failed_shelves: [],
    failed_hosts: [],
    volume_size: "",
  } as Schema["CutBody"];
}

export function nameOf(layout?: { scheme: string; trade_name: string; description: string } | null): string {
  if (!layout) return "";
  return `${layout.scheme}${layout.trade_name ? ` (${layout.trade_name})` : ""}, ${layout.description}`;
}

/** What sets a layout apart beside its name. */
export function besides(layout: { withstands: string[]; part?: string }): string {
  return [
    ...layout.withstands.map((domain) => survivesAny(1, domain)),
    layout.part && `${layout.part} drives only`,
  ]
    .filter(Boolean)
    .join(", ");
}

/** The backup of the question, for the form that builds. */
export function backupIn(body: { backup_where?: string; backup_age_hours?: number; backup_link?: string }) {
  const said: Record<string, string> = {};
  if (body.backup_where) said.backup_where = body.backup_where;
  if (body.backup_age_hours !== undefined) said.backup_age_hours = String(body.backup_age_hours);
  if (body.backup_link) said.backup_link = body.backup_link;
  return said;
}
