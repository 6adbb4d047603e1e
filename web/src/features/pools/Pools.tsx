/** Pools: what has been built, how it stands. */
import { Button } from "@mantine/core";
import { Link } from "react-router";
import { type Schema, server } from "../../api/client";
import { Empty, Heading, State, Term, Trouble, Waiting } from "../../shared/parts";
import { fills, PoolRuler } from "../../shared/Ruler";
import { Size } from "../../shared/units";
import { FoundPools, LookForPools } from "./Found";

type Line = Schema["PoolLine"];

export function Pools() {
  const pools = server.useInfiniteQuery(
    "get",
    "/api/pools",
    { params: { query: { limit: 50 } } },
    {
      pageParamName: "after",
      initialPageParam: "",
      getNextPageParam: (page) => (page.more ? page.pools[page.pools.length - 1].name : undefined),
    },
  );
  if (pools.isPending) return <Waiting height={300} />;
  if (pools.isLoadingError) return <Trouble error={pools.error} />;
  const all = pools.data.pages.flatMap((p) => p.pools);
  return (
    <>
      <Heading title="Pools">
        <span style={{ flex: 1 }} />
        <LookForPools />
        <Button component={Link} to="/compare">
          Compare layouts for a new one
        </Button>
      </Heading>
      <FoundPools />
      {all.length === 0 ? (
        <Empty act="Go to the shelves" to="/shelves">
          No pool has been built yet. Choose drives on the shelves (or write some down there), compare
          layouts, and approve a change sheet.
        </Empty>
      ) : (
        <div className="paper scroll-x" tabIndex={0} style={{ padding: "0.4rem 0" }}>
          <table className="plain">
            <thead>
              <tr>
                <th>pool</th>
                <th>state</th>
                <th>
                  <Term word="scheme">scheme</Term>
                </th>
                <th className="num">drives</th>
                <th className="num">capacity</th>
                <th style={{ minWidth: 190 }}>in use</th>
                <th className="num">free</th>
                <th>full about</th>
                <th>volumes</th>
              </tr>
            </thead>
            <tbody>
              {all.map((pool) => (
                <Row key={pool.id} pool={pool} />
              ))}
            </tbody>
          </table>
        </div>
      )}
      {pools.hasNextPage && (
        <Button variant="subtle" onClick={() => pools.fetchNextPage()}>
          More pools
        </Button>
      )}
    </>
  );
}

function Row({ pool }: { pool: Line }) {
  return (
    <tr>
      <td style={{ whiteSpace: "nowrap" }}>
        <svg width="14" height="22" aria-hidden="true" style={{ verticalAlign: "-6px", marginRight: 8 }}>
          <rect
            x=".5"
            y=".5"
            width="13"
            height="21"
            rx="2"
            fill={`url(#pool-${pool.tint % 8})`}
            stroke="var(--ink)"
          />
        </svg>
        <Link to={`/pools/${pool.id}`} style={{ fontWeight: 600 }}>
          {pool.name}
        </Link>
      </td>
      <td>
        <State word={pool.state} />
      </td>
      <td style={{ whiteSpace: "nowrap" }}>
        {pool.divided ? (
          "drive with partitions"
        ) : (
          <>
            {pool.scheme} <span className="faint">{pool.trade_name}</span>
          </>
        )}
        {pool.sets > 1 && <span className="faint"> · {pool.sets} sets</span>}
      </td>
      <td className="num">
        {pool.drives}
        {pool.spares > 0 && (
          <span className="faint">
            {" "}
            + {pool.spares} spare{pool.spares > 1 ? "s" : ""}
          </span>
        )}
        {pool.away > 0 && <span className="rust"> · {pool.away} away</span>}
      </td>
      <td className="num">
        <Size bytes={pool.capacity} />
      </td>
      <td style={{ verticalAlign: "middle" }}>
        <PoolRuler glance={pool.glance} />
      </td>
      <td className="num">
        <Size bytes={pool.free} />
      </td>
      <td style={{ whiteSpace: "nowrap" }}>
        <span title={fills(pool.glance.outlook) ?? undefined}>
          {pool.glance.outlook?.at ? pool.glance.outlook.at.slice(0, 10) : "–"}
        </span>
      </td>
      <td>{pool.volumes.join(", ")}</td>
    </tr>
  );
}
