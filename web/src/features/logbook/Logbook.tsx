/** The logbook: who did what when, unalterable. */
import { Button, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData } from "@tanstack/react-query";
import { server } from "../../api/client";
import { useAddress } from "../../shared/address";
import { Empty, Heading, Trouble, Waiting } from "../../shared/parts";
import { formatWhen } from "../../shared/units";

export function Logbook() {
  const [params, put] = useAddress();
  const search = params.get("search") ?? "";
  const [settled] = useDebouncedValue(search, 150);
  const log = server.useInfiniteQuery(
    "get",
    "/api/logbook",
    { params: { query: { limit: 60, search: settled } } },
    {
      pageParamName: "before",
      initialPageParam: null,
      getNextPageParam: (page) => (page.more ? page.entries[page.entries.length - 1].id : undefined),
      placeholderData: keepPreviousData,
    },
  );
  const entries = log.data?.pages.flatMap((p) => p.entries) ?? [];
  return (
    <>
      <Heading title="Logbook">
        <TextInput
          aria-label="Search the logbook"
          placeholder="Search: a drive, a pool, a person"
          w={300}
          value={search}
          onChange={(e) => put({ search: e.currentTarget.value })}
        />
      </Heading>
      {log.isPending && <Waiting />}
      <Trouble error={log.error} />
      {log.data && entries.length === 0 && (
        <Empty>{settled ? "No entry has these words." : "Nothing has happened yet."}</Empty>
      )}
      {entries.length > 0 && (
        <div className="paper scroll-x" tabIndex={0} style={{ padding: "0.3rem 0" }}>
          <table className="plain">
            <thead>
              <tr>
                <th>when</th>
                <th>who</th>
                <th>what</th>
              </tr>
            </thead>
            <tbody>
              {entries.map((e) => (
                <tr key={e.id}>
                  <td className="faint" style={{ whiteSpace: "nowrap", width: "10rem" }}>
                    {formatWhen(e.at)}
                  </td>
                  <td style={{ whiteSpace: "nowrap", width: "8rem" }}>{e.who}</td>
                  <td>{e.sentence}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {log.hasNextPage && (
        <Button variant="subtle" mt="sm" onClick={() => log.fetchNextPage()} loading={log.isFetchingNextPage}>
          Earlier entries
        </Button>
      )}
    </>
  );
}
