/** Whether a file is a true certificate of this house. Works without signing in. */
import { FileInput, Text } from "@mantine/core";
import { useMutation } from "@tanstack/react-query";
import { api, ask } from "../../api/client";
import { Trouble, useTitle } from "../../shared/parts";

export function Verify() {
  useTitle("Verify a certificate");
  const check = useMutation({
    mutationFn: async (file: File) =>
      ask(api.POST("/api/disposal/verify", { body: { content: (await file.text()).slice(0, 200_000) } })),
  });
  const found = check.data;
  return (
    <article className="paper" style={{ maxWidth: 680, margin: "2rem auto" }}>
      <h1>Verify a certificate</h1>
      <Text c="dimmed" mb="sm">
        The signed file (.json) that came with a wiped drive. It is held against the keys of this house;
        nothing is kept.
      </Text>
      <FileInput
        label="Signed file"
        placeholder="certificate-12.json"
        accept=".json,.jws,application/json"
        onChange={(file) => file && check.mutate(file)}
      />
      <Trouble error={check.error} />
      {found && (
        <section aria-live="polite" style={{ marginTop: "1.2rem" }}>
          <h2 className={found.good ? "pine" : "rust"}>{found.good ? "It is true" : "It is not true"}</h2>
          <p>{found.sentence}</p>
          {found.rows.length > 0 && (
            <table className="plain">
              <tbody>
                {found.rows.map(({ label, text }) => (
                  <tr key={label}>
                    <td className="faint">{label}</td>
                    <td>{text}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {found.fingerprint && (
            <p className="faint">
              Fingerprint {found.fingerprint}: the same stands on the label of the drive's bag.
            </p>
          )}
        </section>
      )}
    </article>
  );
}
