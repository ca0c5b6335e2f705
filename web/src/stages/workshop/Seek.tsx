import { useState } from "react";
import { client, take } from "../../api/client";
import { showProblem } from "../../api/queries";

/** Find bytes: exactly one place, or say how many. */
export function Seek({
  project,
  path,
  onFound,
}: {
  project: string;
  path: string;
  onFound: (place: number, length: number) => void;
}) {
  const [words, setWords] = useState("");
  const [places, setPlaces] = useState<number[] | null>(null);
  const [at, setAt] = useState(0);
  const seek = () => {
    const bare = words.replace(/\s/g, "");
    const hex = /^([0-9a-f]{2})+$/i.test(bare) && /^\s*(0x|[0-9a-f]{2}(\s|$))/i.test(words) ? bare : "";
    const length = hex ? hex.length / 2 : new TextEncoder().encode(words).length;
    return take(
      client.POST("/api/projects/{project_id}/workshop/seek", {
        params: { path: { project_id: project } },
        body: { path, hex, words: hex ? "" : words },
      }),
    ).then(({ places: found }) => {
      const next = places && found.length > 0 ? (at + 1) % found.length : 0;
      setPlaces(found);
      setAt(next);
      const place = found[next];
      if (place !== undefined) onFound(place, length);
    }, showProblem);
  };
  return (
    <form
      className="flex items-center gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        if (words) void seek();
      }}
    >
      <span className="text-quiet" role="status">
        {places === null ? "" : places.length === 0 ? "nowhere" : `${at + 1} of ${places.length}`}
      </span>
      <input
        type="search"
        aria-label="Find bytes: words, or hexadecimal such as 50 49 45 52"
        placeholder="words, or 50 49 45 52"
        className="w-48 rounded-lg border border-line bg-raised px-2 py-1"
        value={words}
        onChange={(event) => {
          setWords(event.target.value);
          setPlaces(null);
        }}
      />
    </form>
  );
}
