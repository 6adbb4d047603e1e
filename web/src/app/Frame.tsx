/** The masthead with the way from left to right, the unit switch, and the person. */
import { ActionIcon, Button, Menu, SegmentedControl, useMantineColorScheme } from "@mantine/core";
import { useHotkeys } from "@mantine/hooks";
import { IconMoon, IconSearch, IconSun } from "@tabler/icons-react";
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, NavLink, Outlet } from "react-router";
import { api, ask } from "../api/client";
import { useAnswers } from "../shared/live";
import { useBecome, useMe } from "../shared/me";
import { Silence } from "../shared/Silence";
import { SpinePatterns } from "../shared/spine";
import { type UnitSystem, useUnits } from "../shared/units";
import { FindAndDo } from "./FindAndDo";

const WAYS = [
  ["/", "Today"],
  ["/shelves", "Shelves"],
  ["/compare", "Compare"],
  ["/pools", "Pools"],
  ["/access", "Access"],
  ["/changes", "Changes"],
  ["/disposal", "Disposal"],
  ["/logbook", "Logbook"],
];

export function Frame() {
  const { system, turn } = useUnits();
  const answers = useAnswers();
  const scheme = useMantineColorScheme();
  const me = useMe().data?.user;
  const become = useBecome();
  const leave = useMutation({ mutationFn: () => ask(api.POST("/api/sign-out")), onSuccess: become });
  const [finding, setFinding] = useState<"find" | "keys" | null>(null);
  useHotkeys([
    ["mod+K", () => setFinding("find")],
    ["?", () => setFinding("keys")],
    ["shift+?", () => setFinding("keys")],
  ]);
  const dark = scheme.colorScheme === "dark";
  return (
    <>
      <a className="skip" href="#main">
        Skip to the page
      </a>
      <SpinePatterns />
      <header className="masthead">
        <div className="masthead-inner">
          <Link to="/" className="wordmark">
            <svg width="24" height="24" viewBox="0 0 32 32" aria-hidden="true">
              <rect x="6" y="5" width="8" height="20" rx="1.5" />
              <rect
                x="17"
                y="9"
                width="7"
                height="16"
                rx="1.5"
                fill="none"
                stroke="var(--pine)"
                strokeWidth="2"
              />
              <path d="M3 27h26" stroke="var(--rust)" strokeWidth="2.5" />
            </svg>
            Pair Shelf
          </Link>
          <nav className="ways" aria-label="Screens">
            {WAYS.map(([to, name]) => (
              <NavLink key={to} to={to} end={to === "/"}>
                {name}
              </NavLink>
            ))}
          </nav>
          <ActionIcon
            variant="subtle"
            color="gray"
            aria-label="Find and do (Ctrl+K)"
            title="Find and do (Ctrl+K)"
            onClick={() => setFinding("find")}
          >
            <IconSearch size={18} />
          </ActionIcon>
          <SegmentedControl
            size="xs"
            aria-label="Unit of sizes"
            value={system}
            onChange={(v) => turn(v as UnitSystem)}
            data={[
              { value: "decimal", label: "TB" },
              { value: "binary", label: "TiB" },
            ]}
          />
          <ActionIcon
            variant="subtle"
            color="gray"
            aria-label={dark ? "Light" : "Dark"}
            title={dark ? "Light" : "Dark"}
            onClick={() => scheme.setColorScheme(dark ? "light" : "dark")}
          >
            {dark ? <IconSun size={18} /> : <IconMoon size={18} />}
          </ActionIcon>
          <Menu position="bottom-end">
            <Menu.Target>
              <Button variant="default" size="xs">
                {me?.name}
              </Button>
            </Menu.Target>
            <Menu.Dropdown>
              <Menu.Label>{me?.role}</Menu.Label>
              <Menu.Item component={Link} to="/settings">
                Settings
              </Menu.Item>
              <Menu.Item onClick={() => setFinding("keys")}>Keys</Menu.Item>
              <Menu.Item onClick={() => leave.mutate()}>Sign out</Menu.Item>
            </Menu.Dropdown>
          </Menu>
        </div>
        <Silence answers={answers} />
      </header>
      <main className="page" id="main">
        <Outlet />
      </main>
      {finding && <FindAndDo show={finding} onClose={() => setFinding(null)} />}
    </>
  );
}
