/** Who reaches what: hosts with their mounts and applications, shares, block targets, people. */
import { Link, useNavigate, useParams } from "react-router";
import { Heading } from "../../shared/parts";
import { Hosts } from "./Hosts";
import { People } from "./People";
import { Shares } from "./Shares";
import { Targets } from "./Targets";

const VIEWS = {
  hosts: ["Hosts and mounts", Hosts],
  shares: ["Shares", Shares],
  targets: ["Block targets", Targets],
  people: ["People", People],
} as const;

export function Access() {
  const view = (useParams().view ?? "hosts") as keyof typeof VIEWS;
  const go = useNavigate();
  const Shown = (VIEWS[view] ?? VIEWS.hosts)[1];
  return (
    <>
      <Heading title="Access">
        <span className="faint">
          who uses what stands in the pools · <Link to="/notice">impact of an outage</Link>
        </span>
      </Heading>
      <nav className="views" aria-label="Views of access">
        {Object.entries(VIEWS).map(([key, [name]]) => (
          <button
            key={key}
            type="button"
            aria-current={view === key ? "page" : undefined}
            onClick={() => go(`/access/${key}`)}
          >
            {name}
          </button>
        ))}
      </nav>
      <Shown />
    </>
  );
}
