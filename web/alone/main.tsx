/** A page for tests: one component by itself, with what it is given standing in the address. */
import "@mantine/core/styles.css";
import "../src/app/style.css";
import { MantineProvider } from "@mantine/core";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import type { ComponentProps, ReactNode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter, useLocation } from "react-router";
import { theme } from "../src/app/theme";
import { Notice } from "../src/features/access/Notice";
import { LayoutTable } from "../src/features/compare/LayoutTable";
import { Pinned } from "../src/features/compare/Pinned";
import { Disposal } from "../src/features/disposal/Disposal";
import { Logbook } from "../src/features/logbook/Logbook";
import { PutIn } from "../src/features/shelves/PutIn";
import { Act, Trouble } from "../src/shared/parts";
import { SheetAct } from "../src/shared/SheetForm";
import { SpinePatterns } from "../src/shared/spine";
import { UnitsProvider } from "../src/shared/units";

const shown = { Disposal, LayoutTable, Logbook, Notice, Pinned, PutIn, SheetAct, Act, Trouble } as const;

type Given = { [Name in keyof typeof shown]: { name: Name; props: ComponentProps<(typeof shown)[Name]> } };

declare global {
  interface Window {
    /** Show a component; what it calls back is written to `said`. */
    show: (given: Given[keyof Given]) => void;
    said: [string, ...unknown[]][];
  }
}

/** Every function a component may call; each only notes that it was called, and with what. */
const CALLED = ["onPick", "onPin", "onClose", "onClick", "put"] as const;

function Address() {
  const { pathname } = useLocation();
  return <output aria-label="address">{pathname}</output>;
}

window.said = [];
const noted = Object.fromEntries(
  CALLED.map((name) => [name, (...words: unknown[]) => window.said.push([name, ...words])]),
);
const client = new QueryClient({ defaultOptions: { queries: { retry: false } } });
const root = createRoot(document.getElementById("root") as HTMLElement);

window.show = ({ name, props }) => {
  const Component = shown[name] as (props: object) => ReactNode;
  root.render(
    <MantineProvider theme={theme}>
      <QueryClientProvider client={client}>
        <UnitsProvider>
          <BrowserRouter>
            <SpinePatterns />
            <Component {...noted} {...(props as object)} />
            <Address />
          </BrowserRouter>
        </UnitsProvider>
      </QueryClientProvider>
    </MantineProvider>,
  );
};
