/** Shelves: what is there, drawn; choosing drives by click, drag, keys, or a filter in words. */
import { Button, CloseButton, Menu, Text, TextInput, Tooltip } from "@mantine/core";
import { useDebouncedValue, useMediaQuery } from "@mantine/hooks";
import { keepPreviousData, useMutation, useQueryClient } from "@tanstack/react-query";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useLayoutEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, ask, type Schema, server } from "../../api/client";
import { useAddress } from "../../shared/address";
import { useMay } from "../../shared/me";
import { Act, Heading, StandIns, Trouble, Waiting } from "../../shared/parts";
import { SheetAct } from "../../shared/SheetForm";
import { useSelection } from "../../shared/selection";
import { BAY_WIDTH } from "../../shared/spine";
import { Beside, UnpackBox } from "./Boxes";
import { AddShelf, NewShelf, OutOfBays } from "./ByHand";
import { DriveSheet } from "./DriveSheet";
import { ShelfDrawing } from "./ShelfDrawing";
import { useDragBox } from "./useDragBox";
import { useWithoutPower } from "./withoutPower";

const HINT =
  "Every term must hold. Words: free, new, in-use, failing, failed, missing, spare; hdd, ssd, nvme; ≥ as >=, sizes as 4TB; shelf:cold, maker:osmund, bay:3, pool:archive.";

/** Between shelves that stand side by side, pixels. */
const BETWEEN = 44;

export function Shelves() {
  const [params, put] = useAddress();
  const typed = params.get("filter") ?? "";
  const [settled] = useDebouncedValue(typed, 60);
  const shown = params.get("drive");
  const list = server.useQuery(
    "get",
    "/api/shelves",
    { params: { query: { filter: settled } } },
    { placeholderData: keepPreviousData },
  );
  const wide = useMediaQuery("(min-width: 900px)", true);
  const manage = useMay("manage-drives");
  const go = useNavigate();
  const withoutPower = useWithoutPower();
  // What has no power stays in sight, whatever is looked for: its drives are in no bay now, and its way back is here.
  const dark = (shelf: Schema["ShelfOut"]) => Object.values(withoutPower(shelf)).some(Boolean);
  const passing = list.data?.matched;
  const matched = useMemo(() => (passing ? new Set(passing) : null), [passing]);
  if (list.isPending) return <Waiting height={400} />;
  if (list.isLoadingError) return <Trouble error={list.error} />;
  const { shelves, drives, matching, out, filter_error, new: fresh } = list.data;
  return (
    <>
      <Heading title="Shelves">
        <Text c="dimmed">
          {drives.toLocaleString("en")} {drives === 1 ? "drive" : "drives"} on {shelves.length}{" "}
          {shelves.length === 1 ? "shelf" : "shelves"}
        </Text>
        <span style={{ flex: 1 }} />
        <AddShelf />
        <Act why={manage.why} variant="default" onClick={() => go("/shelves/import")}>
          Import drives
        </Act>
        <UnpackBox />
        <Button variant="default" component="a" href="/api/inventory.csv" download>
          Export list
        </Button>
      </Heading>
      {drives > 0 && (
        <div
          className="no-print"
          style={{ display: "flex", gap: "0.8rem", alignItems: "start", flexWrap: "wrap" }}
        >
          <Tooltip label={HINT} multiline w={420} position="bottom-start" openDelay={500}>
            <TextInput
              style={{ flex: "1 1 320px", maxWidth: 560 }}
              aria-label="Filter drives"
              placeholder="Filter in words: free hdd >= 4TB shelf:cold"
              value={typed}
              error={settled === typed ? filter_error : undefined}
              onChange={(e) => put({ filter: e.currentTarget.value })}
              rightSection={
                typed ? (
                  <CloseButton aria-label="Clear the filter" onClick={() => put({ filter: null })} />
                ) : null
              }
            />
          </Tooltip>
          {settled && !filter_error && !list.isPlaceholderData && (
            <SelectMatching filter={settled} matching={matching} />
          )}
        </div>
      )}
      {fresh > 0 && <NewDrives count={fresh} />}
      <Beside shelves={shelves} />
      {out > 0 && <OutOfBays onShow={(id) => put({ drive: String(id) })} />}
      {drives === 0 && shelves.length === 0 ? (
        <div className="paper" style={{ maxWidth: 720 }}>
          <h2>The first shelf</h2>
          <p style={{ margin: "0.3rem 0 0.8rem" }}>
            Write down a box with drives, as many as it has bays. Or{" "}
            <Link to="/shelves/import">bring in a list</Link>; there is a{" "}
            <a href="/api/inventory/template.csv" download>
              template
            </a>{" "}
            to fill in.
          </p>
          <NewShelf />
          <StandIns />
        </div>
      ) : (
        <div
          style={{
            display: "flex",
            gap: "1.4rem",
            alignItems: "flex-start",
            flexDirection: wide ? "row" : "column-reverse",
          }}
        >
          <ShelfList
            shelves={shelves.filter((s) => !settled || filter_error || s.matching > 0 || dark(s))}
            scales={new Map(list.data.scales.map((s) => [s.site, s.largest]))}
            matched={matched}
            shown={shown ? Number(shown) : null}
            onShow={(id) => put({ drive: String(id) })}
          />
          {shown && <DriveSheet id={Number(shown)} wide={wide} onClose={() => put({ drive: null })} />}
        </div>
      )}
      <SelectionBar matched={matched} onShow={() => put({ filter: null })} />
    </>
  );
}

/** Drives that were put in and nobody has accepted yet. */
function NewDrives({ count }: { count: number }) {
  const client = useQueryClient();
  const manage = useMay("manage-drives");
  const accept = useMutation({
    mutationFn: async () => {
      const found = await ask(api.GET("/api/drives/new"));
      return ask(api.POST("/api/drives/take-in", { body: { ids: found.drives.map((d) => d.id) } }));
    },
    onSettled: () => client.invalidateQueries(),
  });
  const many = count > 1;
  return (
    <section
      className="paper no-print"
      aria-label="New drives"
      style={{
        margin: "1rem 0 0",
        display: "flex",
        flexWrap: "wrap",
        gap: "0.5rem 1rem",
        alignItems: "center",
      }}
    >
      <span>
        {count} new {many ? "drives have" : "drive has"} been found. Accept {many ? "them" : "it"} to use{" "}
        {many ? "them" : "it"} in pools.
      </span>
      <Act size="xs" why={manage.why} loading={accept.isPending} onClick={() => accept.mutate()}>
        {many ? `Accept ${count} drives` : "Accept drive"}
      </Act>
      {accept.isError && <Trouble error={accept.error} />}
    </section>
  );
}

function SelectMatching({ filter, matching }: { filter: string; matching: number }) {
  const { add } = useSelection();
  const choose = useMutation({
    mutationFn: () => ask(api.GET("/api/drives/matching", { params: { query: { filter } } })),
    onSuccess: (found) => add(found.ids),
  });
  return (
    <>
      <Text style={{ paddingTop: 6 }}>
        {matching.toLocaleString("en")} {matching === 1 ? "matches" : "match"}
      </Text>
      <Button
        variant="default"
        disabled={matching === 0}
        loading={choose.isPending}
        onClick={() => choose.mutate()}
      >
        Select all matching free drives
      </Button>
      {choose.data && choose.data.more > 0 && (
        <Text c="dimmed" style={{ paddingTop: 6 }}>
          the first {choose.data.ids.length}; {choose.data.more} more match
        </Text>
      )}
    </>
  );
}

interface ListProps {
  shelves: Schema["ShelfOut"][];
  scales: Map<string, number>;
  matched: ReadonlySet<number> | null;
  shown: number | null;
  onShow: (id: number) => void;
}

/** Shelves side by side as far as the width goes, in their order. */
function packed(shelves: ListProps["shelves"], width: number): ListProps["shelves"][] {
  const rows: ListProps["shelves"][] = [];
  let left = 0;
  for (const shelf of shelves) {
    const need = shelf.bays * BAY_WIDTH + 16 + BETWEEN;
    if (!rows.length || need > left) {
      rows.push([]);
      left = width + BETWEEN;
    }
    rows[rows.length - 1].push(shelf);
    left -= need;
  }
  return rows;
}

function ShelfList({ shelves, scales, matched, shown, onShow }: ListProps) {
  const root = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    if (!root.current) return;
    setWidth(Math.floor(root.current.getBoundingClientRect().width));
    const watcher = new ResizeObserver(([entry]) => setWidth(Math.floor(entry.contentRect.width)));
    watcher.observe(root.current);
    return () => watcher.disconnect();
  }, []);
  const perRow = Math.max(1, Math.floor((width - 20) / BAY_WIDTH));
  const rows = useMemo(() => (width ? packed(shelves, width) : []), [shelves, width]);
  const virtual = useWindowVirtualizer({
    count: rows.length,
    estimateSize: (i) => 58 + Math.ceil(rows[i][0].bays / perRow) * 204,
    overscan: 2,
    scrollMargin: root.current?.offsetTop ?? 0,
    getItemKey: (i) => rows[i][0].id,
  });
  const { add } = useSelection();
  const box = useDragBox(root, add);
  // The sheet of a drive takes width from the shelves, which are packed anew: the drive stays in sight.
  // biome-ignore lint/correctness/useExhaustiveDependencies: looked for again when the shelves have another width
  useEffect(() => {
    if (shown === null) return;
    const later = setTimeout(() => {
      root.current?.querySelector(`[data-drive="${shown}"]`)?.scrollIntoView({ block: "nearest" });
    }, 60);
    return () => clearTimeout(later);
  }, [shown, width]);
  return (
    <div
      ref={root}
      role="group"
      aria-label="Drives on their shelves"
      style={{
        flex: 1,
        minWidth: 0,
        width: "100%",
        position: "relative",
        minHeight: 300,
        userSelect: "none",
      }}
      {...box.handlers}
    >
      <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
        {virtual.getVirtualItems().map((item) => (
          <div
            key={item.key}
            data-index={item.index}
            ref={virtual.measureElement}
            style={{
              position: "absolute",
              insetInline: 0,
              top: 0,
              display: "flex",
              gap: BETWEEN,
              alignItems: "flex-end",
              transform: `translateY(${item.start - virtual.options.scrollMargin}px)`,
            }}
          >
            {rows[item.index].map((shelf) => (
              <ShelfDrawing
                key={shelf.id}
                shelf={shelf}
                largest={scales.get(shelf.site) ?? 1}
                perRow={perRow}
                matched={matched}
                shown={shown}
                onShow={onShow}
              />
            ))}
          </div>
        ))}
      </div>
      {box.drawn}
    </div>
  );
}

/** A pool that is there can take the chosen drives: which one, and then the ways side by side. */
function IntoAPool({ drives }: { drives: number[] }) {
  const [open, setOpen] = useState(false);
  const go = useNavigate();
  const pools = server.useQuery(
    "get",
    "/api/pools",
    { params: { query: { limit: 200 } } },
    { enabled: open && drives.length > 0 },
  );
  if (drives.length === 0) return null;
  return (
    <Menu opened={open} onChange={setOpen} position="top-start">
      <Menu.Target>
        <Button variant="default">Expand a pool…</Button>
      </Menu.Target>
      <Menu.Dropdown mah={280} style={{ overflowY: "auto" }}>
        {pools.data?.pools
          .filter((p) => !p.divided)
          .map((p) => (
            <Menu.Item key={p.id} onClick={() => go(`/pools/${p.id}/grow?drives=${drives.join(",")}`)}>
              {p.name}
            </Menu.Item>
          ))}
        {pools.data?.pools.length === 0 && <Menu.Label>There is no pool yet.</Menu.Label>}
      </Menu.Dropdown>
    </Menu>
  );
}

/** What can be done with the chosen drives; appears as soon as there are some. */
function SelectionBar({ matched, onShow }: { matched: ReadonlySet<number> | null; onShow: () => void }) {
  const { ids, replace } = useSelection();
  const chosen = [...ids];
  const hidden = matched ? chosen.filter((id) => !matched.has(id)).length : 0;
  const client = useQueryClient();
  const go = useNavigate();
  const manage = useMay("manage-drives");
  const known = server.useQuery(
    "get",
    "/api/drives/by-id",
    { params: { query: { ids: chosen.slice(0, 1000).join(",") } } },
    { enabled: chosen.length > 0, placeholderData: keepPreviousData },
  );
  const takeIn = useMutation({
    mutationFn: (which: number[]) => ask(api.POST("/api/drives/take-in", { body: { ids: which } })),
    onSuccess: () => client.invalidateQueries(),
  });
  if (!chosen.length) return null;
  const drives = known.data?.drives ?? [];
  const fresh = drives.filter((d) => d.service === "new").map((d) => d.id);
  const free = drives.filter((d) => d.not_offered === null).map((d) => d.id);
  const inUse = drives.filter((d) => d.service === "in-use" && !d.partitioned).map((d) => d.id);
  const held = drives.find((d) => d.not_offered !== null && d.service !== "new");
  return (
    <div
      className="paper no-print"
      role="region"
      aria-label="Chosen drives"
      style={{
        position: "sticky",
        bottom: 14,
        marginTop: 18,
        display: "flex",
        gap: "0.8rem",
        flexWrap: "wrap",
        alignItems: "center",
        borderColor: "var(--pine)",
        zIndex: 20,
        boxShadow: "0 4px 18px rgb(60 45 20 / 14%)",
      }}
    >
      <strong>
        {chosen.length} drive{chosen.length > 1 ? "s" : ""} selected
      </strong>
      {hidden > 0 && (
        <span>
          {hidden} not shown by the filter{" "}
          <Button size="compact-sm" variant="subtle" onClick={onShow}>
            Show all
          </Button>
        </span>
      )}
      <Act
        why={free.length ? null : drives.length ? (held?.not_offered ?? "Accept the new drives first.") : "…"}
        onClick={() => {
          replace(free);
          go(`/compare?drives=${free.join(",")}`);
        }}
      >
        Compare layouts{free.length && free.length !== chosen.length ? ` of ${free.length}` : ""}
      </Act>
      <IntoAPool drives={[...free, ...fresh]} />
      {inUse.length > 0 && (
        <SheetAct kind="drain" body={{ drives: inUse.map(String) }}>
          {`Drain ${inUse.length === 1 ? "the one in use" : `the ${inUse.length} in use`}`}
        </SheetAct>
      )}
      {fresh.length > 0 && (
        <Act why={manage.why} variant="light" loading={takeIn.isPending} onClick={() => takeIn.mutate(fresh)}>
          Accept {fresh.length === 1 ? "the new one" : `${fresh.length} new ones`}
        </Act>
      )}
      <Button variant="subtle" onClick={() => replace([])}>
        Clear
      </Button>
      {takeIn.isError && <span className="rust">{takeIn.error.message}</span>}
    </div>
  );
}
