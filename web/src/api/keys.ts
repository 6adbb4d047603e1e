/** Which questions are asked anew when something changes. Their keys come with the hooks: method, path, what was asked. */
import type { Query } from "@tanstack/react-query";
import type { Path } from "./client";

/** Everything but who is signed in. */
export const EVERYTHING = { predicate: (query: Query) => query.queryKey[0] !== "me" };

/** All questions to these paths. */
export const about = (...paths: readonly Path[]) => ({
  predicate: (query: Query) => paths.some((path) => query.queryKey[1] === path),
});

/** Who reaches what. */
export const ACCESS = [
  "/api/access/hosts",
  "/api/access/parties",
  "/api/access/shares",
  "/api/access/targets",
  "/api/shares/{share_id}/files",
] as const satisfies readonly Path[];

const POOL = [
  "/api/trouble/about",
  "/api/trouble/{pool_id}",
  "/api/pools/{pool_id}",
  "/api/pools/{pool_id}/replacements",
  "/api/pools/{pool_id}/room",
  "/api/pools/{pool_id}/ways",
] as const satisfies readonly Path[];
const SHELVES = ["/api/shelves", "/api/hosts"] as const satisfies readonly Path[];
const DRIVES = [
  "/api/drives",
  "/api/drives/by-id",
  "/api/drives/{drive_id}/readings",
] as const satisfies readonly Path[];
const COMPARED = [
  "/api/compare",
  "/api/compare/buy",
  "/api/compare/cut",
  "/api/compare/growth",
  "/api/compare/split",
  "/api/compare/spread",
] as const satisfies readonly Path[];
const DISPOSAL = [
  "/api/disposal",
  "/api/disposal/certificates",
  "/api/disposal/methods",
] as const satisfies readonly Path[];
const NOTICED = ["/api/depends/person", "/api/depends/pull"] as const satisfies readonly Path[];

/** For each table of the database, the questions that show something of it. */
export const SHOWN_BY: Record<string, readonly Path[]> = {
  site: SHELVES,
  shelf: [...SHELVES, "/api/stand-in/unplugged", ...COMPARED],
  wipe: DISPOSAL,
  certificate: DISPOSAL,
  former_pool: DISPOSAL,
  drive: [
    "/api/found-pools",
    "/api/stand-in/beside",
    ...DISPOSAL,
    ...SHELVES,
    ...DRIVES,
    "/api/drives/{drive_id}",
    "/api/today",
    "/api/pools",
    ...POOL,
    ...COMPARED,
  ],
  drive_health: [...DRIVES, ...SHELVES, "/api/drives/{drive_id}", "/api/today"],
  drain: ["/api/drains", ...DRIVES, "/api/drives/{drive_id}", "/api/today"],
  pool: ["/api/found-pools", "/api/pools", ...POOL, "/api/today", ...DRIVES, ...NOTICED],
  pool_place: [
    "/api/drains",
    "/api/pools",
    ...POOL,
    ...DRIVES,
    "/api/drives/{drive_id}",
    ...SHELVES,
    "/api/today",
  ],
  channel: ["/api/channels"],
  delivery: ["/api/channels", "/api/stand-in/mailbox"],
  schedule: ["/api/schedules", "/api/pools/{pool_id}/schedules"],
  calendar_address: ["/api/calendar-address"],
  threshold: ["/api/pools", ...POOL, "/api/today"],
  crossing: ["/api/pools", ...POOL, "/api/today"],
  outlook: ["/api/pools", ...POOL, "/api/today"],
  volume: ["/api/today", "/api/pools", ...POOL, "/api/volumes", ...ACCESS],
  volume_piece: ["/api/today", "/api/pools", ...POOL, ...SHELVES, ...DRIVES, "/api/drives/{drive_id}"],
  volume_stripes: [
    "/api/drains",
    "/api/today",
    "/api/pools",
    ...POOL,
    ...SHELVES,
    ...DRIVES,
    "/api/drives/{drive_id}",
  ],
  host: ACCESS,
  mount: [...POOL, ...ACCESS, ...NOTICED],
  party: ACCESS,
  party_member: ACCESS,
  share: [...POOL, ...ACCESS, ...NOTICED],
  share_right: [...ACCESS, ...NOTICED],
  share_visit: ACCESS,
  initiator: ACCESS,
  target: [...POOL, ...ACCESS, ...NOTICED],
  target_lun: [...POOL, ...ACCESS],
  target_right: ACCESS,
  application: [...POOL, ...ACCESS, ...NOTICED],
  keep_rule: [...POOL, ...ACCESS],
  partition_plan: ["/api/drives/{drive_id}/partitions"],
  sample_file: ["/api/pools", ...POOL, "/api/today", ...ACCESS],
  change_sheet: ["/api/sheets", "/api/sheets/{sheet_id}", "/api/plans/{plan_id}", "/api/today"],
  job: ["/api/drains", "/api/jobs", "/api/today", ...POOL, "/api/sheets/{sheet_id}"],
  logbook: ["/api/logbook", "/api/today"],
  errand: ["/api/sheets/{sheet_id}"],
  host_writes: POOL,
  play: ["/api/pools/{pool_id}/speed"],
  played: ["/api/pools/{pool_id}/speed"],
  setting: ["/api/stand-in/speed", "/api/stand-in/time", "/api/disposal", "/api/failing-rules", "/api/mail"],
  drive_model: ["/api/prices", ...COMPARED],
  comparison: ["/api/comparisons", "/api/comparisons/{comparison_id}"],
  backup: ["/api/pools/{pool_id}/backups"],
};
