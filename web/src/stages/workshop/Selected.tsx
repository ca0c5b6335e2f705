import { useState } from "react";
import { client, type Schemas, take } from "../../api/client";
import { showProblem } from "../../api/queries";
import { Button } from "../../components/controls";
import { count, many } from "../../lib/format";
import type { Selection } from "./ByteView";
import { offsetOf, readings } from "./numbers";

const SAYS = {
  number: "a number",
  signed: "a signed number",
  text: "text",
  magic: "always these bytes",
  bytes: "bytes nobody explains",
} as const;

/** Chosen bytes: what they could be, and saying what they are. */
export function Selected({
  project,
  about,
  side,
  window,
  selection,
  onSaid,
}: {
  project: string;
  about: { path: string; data: string | null; text: string };
  side: "main" | "data";
  window: Schemas["WindowView"];
  selection: Selection;
  onSaid: (text: string) => void;
}) {
  const [says, setSays] = useState<keyof typeof SAYS>("number");
  const [name, setName] = useState("");
  const raw = Uint8Array.from(atob(window.bytes), (c) => c.charCodeAt(0));
  const chosen = raw.slice(
    Math.max(selection.start - window.offset, 0),
    Math.max(selection.end - window.offset, 0),
  );
  const field = window.fields.find((one) => one.start <= selection.start && one.end >= selection.end);
  const say = () =>
    take(
      client.POST("/api/projects/{project_id}/workshop/say", {
        params: { path: { project_id: project } },
        body: { ...about, file: side, start: selection.start, end: selection.end, says, name },
      }),
    ).then((said) => {
      onSaid(said.text);
      setName("");
    }, showProblem);
  return (
    <div className="grid shrink-0 gap-2 rounded-lg bg-raised p-3">
      <p className="flex flex-wrap gap-x-4">
        <b>
          {many(selection.end - selection.start, "byte")} at {count(selection.start)} (
          {offsetOf(selection.start)})
        </b>
        {readings(chosen).map(([what, value]) => (
          <span key={what}>
            <span className="text-quiet">{what}</span> <code className="font-mono">{value}</code>
          </span>
        ))}
      </p>
      {field ? (
        <p className="text-quiet">
          described as <b className="text-ink">{field.name}</b> {field.value && `= ${field.value}`}
        </p>
      ) : (
        <form
          className="flex flex-wrap items-center gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            void say();
          }}
        >
          <label className="flex items-center gap-2">
            These are
            <select
              className="rounded-lg border border-line bg-paper px-2 py-1"
              value={says}
              onChange={(event) => setSays(event.target.value as keyof typeof SAYS)}
            >
              {Object.entries(SAYS).map(([value, words]) => (
                <option key={value} value={value}>
                  {words}
                </option>
              ))}
            </select>
          </label>
          <label className="flex items-center gap-2">
            called
            <input
              className="w-36 rounded-lg border border-line bg-paper px-2 py-1"
              value={name}
              spellCheck={false}
              onChange={(event) => setName(event.target.value)}
            />
          </label>
          <Button type="submit" disabled={!name}>
            Write it down
          </Button>
        </form>
      )}
    </div>
  );
}
