/** Who is signed in, and what they may do. */
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, rememberCsrf, type Schema } from "../api/client";

export type Me = Schema["MeOut"];

export function useMe() {
  return useQuery({
    queryKey: ["me"],
    queryFn: async () => {
      const me = await ask(api.GET("/api/me"));
      rememberCsrf(me.csrf);
      return me;
    },
    staleTime: 60_000,
  });
}

/** Whether the signed-in person may do an act, and the sentence to show if not. */
export function useMay(act: string): { may: boolean; why: string | undefined } {
  const user = useMe().data?.user;
  const may = user?.acts?.includes(act) ?? false;
  const needed =
    act === "build-pools" || act === "manage-users" ? "an administrator" : "an operator or administrator";
  return {
    may,
    why: may ? undefined : `Only ${needed} can do this; you are signed in as ${user?.role ?? "nobody"}.`,
  };
}

/** Take a new answer about who is signed in as the truth from now on. */
export function useBecome() {
  const client = useQueryClient();
  return (me: Me) => {
    rememberCsrf(me.csrf);
    client.removeQueries({ predicate: (q) => q.queryKey[0] !== "me" });
    client.setQueryData(["me"], me);
  };
}
