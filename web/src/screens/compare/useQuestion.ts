/** The question of a comparison. All of it stands in the address, so a link is the question. */
import { useDebouncedValue } from "@mantine/hooks";
import { useSearchParams } from "react-router";
import type { Schema } from "../../api/client";
import { useSelection } from "../../shared/selection";

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
  "price",
  "tariff",
  "backup_age_hours",
] as const;
const WORDS = ["need", "spares_for", "workload", "rate", "network", "backup_where", "backup_link"] as const;
/** Typed in per cent, asked as shares. */
const PERCENT = new Set<string>(["afr", "user_share"]);

export type Field = (typeof NUMBERS)[number] | (typeof WORDS)[number];

export interface Question {
  get: (name: string) => string;
  put: (changes: Record<string, string | null>) => void;
  what: string;
  drives: number[];
  typed: string;
  ready: boolean;
  /** The question as it is asked, a moment after the last change. */
  body: Body;
  /** The address after the question mark. */
  address: string;
}

export function useQuestion(): Question {
  const [params, setParams] = useSearchParams();
  const { ids } = useSelection();
  const get = (name: string) => params.get(name) ?? "";
  const put = (changes: Record<string, string | null>) => {
    // From the address itself: two changes within one drawing of the page must not undo one another.
    const after = new URLSearchParams(window.location.search);
    for (const [name, value] of Object.entries(changes)) {
      if (value) after.set(name, value);
      else after.delete(name);
    }
    setParams(after, { replace: true });
  };
  const what = get("what") || (ids.size || params.has("drives") ? "shelves" : "what-if");
  const drives = params.has("drives") ? get("drives").split(",").map(Number) : [...ids].sort((a, b) => a - b);
  const typed = get("what-if");
  const asked: Record<string, unknown> = {
    ...(what === "what-if" ? { shorthand: typed } : { drive_ids: drives }),
    file_system: get("fs") || "ext4",
    mix_kinds: get("mix") === "yes",
  };
  for (const name of NUMBERS)
    if (get(name) !== "" && Number.isFinite(Number(get(name))))
      asked[name] = PERCENT.has(name) ? Number(get(name)) / 100 : Number(get(name));
  for (const name of WORDS) if (get(name)) asked[name] = get(name);
  const [settled] = useDebouncedValue(JSON.stringify(asked), 30);
  const whole = new URLSearchParams(params);
  whole.delete("saved");
  if (what === "shelves" && drives.length) whole.set("drives", drives.join(","));
  return {
    get,
    put,
    what,
    drives,
    typed,
    ready: what === "what-if" ? typed.trim() !== "" : drives.length > 0,
    body: JSON.parse(settled) as Body,
    address: whole.toString(),
  };
}

/** What a layout's key says, for asking about it alone. */
export function chosenBody(body: Body, layout: Layout): Schema["CutBody"] {
  const {
    need: _need,
    survive: _survive,
    survive_shelves: _shelves,
    survive_hosts: _hosts,
    workload: _workload,
    rebuild_limit: _limit,
    widest: _widest,
    budget: _budget,
    bays_free: _bays,
    mix_kinds: _mix,
    spares: _spares,
    ...shared
  } = body;
  return {
    ...shared,
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
export function besides(layout: Layout): string {
  return [layout.arranged && `any ${layout.arranged} may fail`, layout.part && `${layout.part} drives only`]
    .filter(Boolean)
    .join(", ");
}
