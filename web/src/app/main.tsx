import "@fontsource-variable/source-sans-3/index.css";
import "@mantine/core/styles.css";
import "./style.css";
import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, Route, Routes } from "react-router";
import { Problem } from "../api/client";
import { Access } from "../features/access/Access";
import { Notice } from "../features/access/Notice";
import { Build } from "../features/build/Build";
import { Changes } from "../features/changes/Changes";
import { Draw } from "../features/changes/Draw";
import { PlanScreen } from "../features/changes/PlanScreen";
import { SheetScreen } from "../features/changes/SheetScreen";
import { Compare } from "../features/compare/Compare";
import { OpenSaved } from "../features/compare/Saved";
import { Disposal } from "../features/disposal/Disposal";
import { Verify } from "../features/disposal/Verify";
import { Draining } from "../features/draining/Draining";
import { Logbook } from "../features/logbook/Logbook";
import { Mailbox } from "../features/mailbox/Mailbox";
import { Grow } from "../features/pools/Grow";
import { Pool } from "../features/pools/Pool";
import { Pools } from "../features/pools/Pools";
import { Settings } from "../features/settings/Settings";
import { Import } from "../features/shelves/Import";
import { Partitions } from "../features/shelves/Partitions";
import { Shelves } from "../features/shelves/Shelves";
import { Setup, SignIn } from "../features/sign-in/SignIn";
import { Today } from "../features/today/Today";
import { About } from "../features/trouble/About";
import { InTrouble } from "../features/trouble/InTrouble";
import { Live } from "../shared/live";
import { useMe } from "../shared/me";
import { OnceProvider } from "../shared/once";
import { Empty, Trouble, Waiting } from "../shared/parts";
import { SelectionProvider } from "../shared/selection";
import { SpinePatterns } from "../shared/spine";
import { standStillWhilePressed } from "../shared/still";
import { UnitsProvider } from "../shared/units";
import { Frame } from "./Frame";
import { theme } from "./theme";

/** Ask again only where asking again can help: no answer, or a server that recovers. */
function worthRetrying(count: number, error: unknown): boolean {
  return error instanceof Problem && (error.status === 0 || error.status >= 500) && count < 5;
}

/** A refusal is an answer: that it is no more, not this person's, or not possible as it stands. Too many questions at once (429) are no answer. */
function refused({ status }: Problem): boolean {
  return status >= 400 && status < 500 && status !== 401 && status !== 429;
}

const client = new QueryClient({
  defaultOptions: {
    queries: { retry: worthRetrying, retryDelay: 800, staleTime: 5_000, refetchOnWindowFocus: false },
  },
});
client.getQueryCache().subscribe((event) => {
  const { error, data } = event.query.state;
  if (!(error instanceof Problem)) return;
  if (error.status === 401) client.invalidateQueries({ queryKey: ["me"] });
  // What was shown stays while the server does not answer, with all that is open and typed; a refusal takes its place.
  if (refused(error) && data !== undefined)
    client.resetQueries({ queryKey: event.query.queryKey, exact: true });
});

function Door() {
  const me = useMe();
  if (me.isPending) return <Waiting height={500} />;
  if (me.isLoadingError) return <Trouble error={me.error} />;
  if (!me.data.user) {
    return (
      <>
        <SpinePatterns />
        <Routes>
          <Route path="/setup" element={<Setup />} />
          <Route path="/verify" element={<Verify />} />
          <Route path="*" element={<SignIn setupNeeded={me.data.setup_needed} />} />
        </Routes>
      </>
    );
  }
  return (
    <Live>
      <SelectionProvider>
        <OnceProvider>
          <Routes>
            <Route element={<Frame />}>
              <Route index element={<Today />} />
              <Route path="shelves" element={<Shelves />} />
              <Route path="shelves/import" element={<Import />} />
              <Route path="compare" element={<Compare />} />
              <Route path="comparisons/:id" element={<OpenSaved />} />
              <Route path="build" element={<Build />} />
              <Route path="pools" element={<Pools />} />
              <Route path="trouble/about" element={<About />} />
              <Route path="trouble/:id" element={<InTrouble />} />
              <Route path="mailbox" element={<Mailbox />} />
              <Route path="pools/:id" element={<Pool />} />
              <Route path="pools/:id/grow" element={<Grow />} />
              <Route path="access" element={<Access />} />
              <Route path="access/:view" element={<Access />} />
              <Route path="notice" element={<Notice />} />
              <Route path="drives/:id/partitions" element={<Partitions />} />
              <Route path="changes" element={<Changes />} />
              <Route path="changes/draw" element={<Draw />} />
              <Route path="changes/draw/:kind" element={<Draw />} />
              <Route path="changes/plans/:id" element={<PlanScreen />} />
              <Route path="changes/:id" element={<SheetScreen />} />
              <Route path="draining" element={<Draining />} />
              <Route path="disposal" element={<Disposal />} />
              <Route path="verify" element={<Verify />} />
              <Route path="logbook" element={<Logbook />} />
              <Route path="settings" element={<Settings />} />
              <Route
                path="*"
                element={
                  <Empty act="Go to Today" to="/">
                    There is no page at this address.
                  </Empty>
                }
              />
            </Route>
          </Routes>
        </OnceProvider>
      </SelectionProvider>
    </Live>
  );
}

standStillWhilePressed();
const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <MantineProvider theme={theme} defaultColorScheme="auto">
        <QueryClientProvider client={client}>
          <UnitsProvider>
            <BrowserRouter>
              <Door />
            </BrowserRouter>
          </UnitsProvider>
        </QueryClientProvider>
      </MantineProvider>
    </StrictMode>,
  );
}
