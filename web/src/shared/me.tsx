/** Who is signed in, and what they may do. */

import { useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask, rememberCsrf, type Schema, server } from "../api/client";
import { EVERYTHING } from "../api/keys";

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

/** Every kind of change and of job, and who may do what: as the server knows them. */
export function useKinds() {
  const signedIn = useMe().data?.user != null;
  return server.useQuery("get", "/api/kinds", {}, { enabled: signedIn, staleTime: Number.POSITIVE_INFINITY })
    .data;
}

/** Whether the signed-in person may do an act, and the sentence to show if not. */
export function useMay(act: string): { may: boolean; why: string | undefined } {
  const user = useMe().data?.user;
  const may = user?.acts?.includes(act) ?? false;
  return { may, why: may ? undefined : (user?.denied?.[act] ?? "Who you are is being looked up.") };
}

/** Whether the signed-in person may draw up a kind of change, and the sentence to show if not. */
export function useMayDo(kind: string) {
  return useMay(useKinds()?.changes.find((k) => k.id === kind)?.act ?? "");
}

/** Take a new answer about who is signed in as the truth from now on. */
export function useBecome() {
  const client = useQueryClient();
  return (me: Me) => {
    rememberCsrf(me.csrf);
    client.removeQueries(EVERYTHING);
    client.setQueryData(["me"], me);
  };
}
