/** The drawer of certificates: index cards, looked up by serial, date, who and where to. */
import { Text, TextInput } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Schema, server } from "../../api/client";
import { Trouble } from "../../shared/parts";
import { formatWhen } from "../../shared/units";

type Certificate = Schema["CertificateOut"];

export function Cards({ count }: { count: number }) {
  const [search, setSearch] = useState("");
  const [asked] = useDebouncedValue(search, 200);
  const found = server.useQuery(
    "get",
    "/api/disposal/certificates",
    { params: { query: { search: asked } } },
    { placeholderData: keepPreviousData },
  );
  return (
    <section className="paper" aria-label="Certificates">
      <div style={{ display: "flex", flexWrap: "wrap", gap: "0.5rem 1rem", alignItems: "center" }}>
        <h2 style={{ flex: "1 1 auto" }}>Certificates</h2>
        {count > 0 && (
          <TextInput
            aria-label="Look up"
            placeholder="serial, date, who, where to"
            value={search}
            onChange={(e) => setSearch(e.currentTarget.value)}
            w={260}
          />
        )}
        <Link to="/verify">Verify a file</Link>
      </div>
      <Trouble error={found.error} />
      {count === 0 && (
        <Text c="dimmed" mt="xs">
          A drive that was wiped and verified gets a card here: numbered, signed, and kept when the drive is
          gone.
        </Text>
      )}
      {count > 0 && found.data?.certificates.length === 0 && (
        <Text c="dimmed" mt="xs">
          No certificate has these words.
        </Text>
      )}
      <div className="cards">
        {found.data?.certificates.map((c) => (
          <Card key={c.number} certificate={c} />
        ))}
      </div>
      {found.data?.more && (
        <Text c="dimmed" mt="xs">
          There are more; look one up by its serial or number.
        </Text>
      )}
    </section>
  );
}

function Card({ certificate: c }: { certificate: Certificate }) {
  const at = `/api/disposal/certificates/${c.number}`;
  return (
    <article className="index-card" aria-label={`Certificate ${c.number}`}>
      <header>
        <strong>{c.number}</strong>
        <span className="stamp">{c.category}</span>
      </header>
      <div className="serial">{c.serial}</div>
      <div>{c.method}</div>
      <div className="faint">{formatWhen(c.issued_at)}</div>
      {c.destination && <div className="faint">goes to: {c.destination}</div>}
      <details>
        <summary className="faint">what it says</summary>
        <table className="plain">
          <tbody>
            {c.rows.map(({ label, text }) => (
              <tr key={label}>
                <td className="faint">{label}</td>
                <td>{text}</td>
              </tr>
            ))}
            <tr>
              <td className="faint">Fingerprint</td>
              <td style={{ overflowWrap: "anywhere" }}>{c.fingerprint}</td>
            </tr>
          </tbody>
        </table>
      </details>
      <footer className="no-print">
        <a href={`${at}/card`}>card</a>
        <a href={`${at}/file`}>signed file</a>
        <a href={`${at}/label`}>label</a>
      </footer>
    </article>
  );
}
