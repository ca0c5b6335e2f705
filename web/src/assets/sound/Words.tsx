/** The words of a voice line over its sound, placed by what is heard; each is heard by a press. */
import { useQuery } from "@tanstack/react-query";
import { Download, X } from "lucide-react";
import { type FormEvent, useEffect, useState } from "react";
import { Link } from "react-router";
import { client, Problem, type Schemas, take } from "../../api/client";
import { useEdits } from "../../api/queries";
import { Button } from "../../components/controls";
import { baseName } from "../../lib/format";
import type { Axis } from "./axis";

type Spoken = Schemas["Spoken"];

/** What was typed for each sound, as long as the page is open. */
const sentences = new Map<string, string>();

export function Words({
  project,
  address,
  revision,
  which,
  axis,
  at,
  onPlay,
}: {
  project: string;
  address: string;
  revision: string;
  which: "original" | "edit";
  axis: Axis;
  at: number;
  onPlay: (start: number, end: number) => void;
}) {
  const [typed, setTyped] = useState(() => sentences.get(`${project} ${address}`) ?? "");
  const [text, setText] = useState(typed);
  const [language, setLanguage] = useState<Language>("en");
  useEffect(() => void sentences.set(`${project} ${address}`, text), [project, address, text]);
  const { data, error, isFetching } = useQuery({
    queryKey: ["spoken", project, address, revision, which, text, language],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/sound/spoken", {
          params: { path: { project_id: project }, query: { address, text, which, language } },
        }),
      ),
    enabled: text !== "",
    retry: false,
  });
  const stem = address.slice(0, address.lastIndexOf("."));
  const name = stem.slice(stem.lastIndexOf("//") + 2);
  const { data: tracks } = useQuery({
    queryKey: ["members", project, "words of", address],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/members", {
          params: { path: { project_id: project }, query: { q: `kind:track "${name}"`, limit: 24 } },
        }),
      ),
  });
  const own = tracks?.items.find((one) => one.address.slice(0, one.address.lastIndexOf(".")) === stem);
  const edits = useEdits(project).data;
  if (own) {
    const room = edits?.some((one) => one.address === own.address) ? "edit" : "find";
    return (
      <p className="text-quiet">
        What is said in it, and when, is in{" "}
        <Link
          className="text-ink underline underline-offset-4"
          to={`/p/${project}/${room}?item=${encodeURIComponent(own.address)}`}
        >
          {baseName(own.name)}
        </Link>
        .
      </p>
    );
  }
  const place = (event: FormEvent) => {
    event.preventDefault();
    setText(typed.trim());
  };
  return (
    <section className="grid gap-2" aria-label="Words">
      <form className="flex flex-wrap items-center gap-2" onSubmit={place}>
        <input
          aria-label="What is said in it"
          placeholder="What is said in it"
          className="w-64 min-w-40 grow rounded-lg border border-line bg-raised px-3 py-1.5"
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
        />
        <LanguageChoice language={language} onChange={setLanguage} />
        <Button type="submit" disabled={!typed.trim() || isFetching}>
          {isFetching ? "Listening …" : "Place the words"}
        </Button>
        {text && (
          <button
            type="button"
            aria-label="Without words"
            title="Without words"
            className="grid size-8 place-items-center rounded-md text-quiet hover:bg-sunk"
            onClick={() => {
              setText("");
              setTyped("");
            }}
          >
            <X aria-hidden className="size-4" />
          </button>
        )}
      </form>
      {error && text && (
        <p role="alert" className="text-rust">
          {error.message} {error instanceof Problem && error.remedy}
        </p>
      )}
      {data && text && <Placed spoken={data} axis={axis} at={at} name={baseName(address)} onPlay={onPlay} />}
    </section>
  );
}

export type Language = "en" | "other";

/** In which language a sentence is: English has an acoustic model. */
export function LanguageChoice({
  language,
  onChange,
}: {
  language: Language;
  onChange: (language: Language) => void;
}) {
  return (
    <select
      aria-label="In which language"
      className="rounded-lg border border-line bg-raised px-2 py-1.5"
      value={language}
      onChange={(event) => onChange(event.target.value as Language)}
    >
      <option value="en">English</option>
      <option value="other">another language</option>
    </select>
  );
}

function Placed({
  spoken,
  axis,
  at,
  name,
  onPlay,
}: {
  spoken: Spoken;
  axis: Axis;
  at: number;
  name: string;
  onPlay: (start: number, end: number) => void;
}) {
  // They follow the waveform above as it is zoomed and scrolled.
  const span = Math.max(axis.to - axis.from, 1e-6);
  const across = (start: number, end: number) => ({
    left: `${((start - axis.from) / span) * 100}%`,
    width: `${((end - start) / span) * 100}%`,
  });
  return (
    <>
      <fieldset
        className="relative m-0 h-14 min-w-0 overflow-hidden border-0 p-0"
        aria-label="Words and phonemes"
      >
        {spoken.words.map((word) => (
          <button
            key={word.start}
            type="button"
            title={`${word.text}: ${word.start.toFixed(3)} to ${word.end.toFixed(3)} s${
              word.spelt ? "; its sounds are guessed from its letters" : ""
            }${word.doubtful ? "; not heard there" : ""}`}
            className={`absolute top-0 h-8 overflow-hidden rounded-sm border-x border-paper text-[13.5px] leading-8 ${
              word.doubtful ? "bg-rust-soft text-rust" : "bg-heather-soft text-ink"
            } ${at >= word.start && at < word.end ? "ring-2 ring-heather" : ""}`}
            style={across(word.start, word.end)}
            onClick={() => onPlay(word.start, word.end)}
          >
            {word.text}
          </button>
        ))}
        {spoken.words.flatMap((word) =>
          word.phonemes.map((one) => (
            <span
              key={`${one.start} ${one.code}`}
              aria-hidden
              className="absolute top-9 h-5 overflow-hidden border-l border-line text-center text-[11.5px] text-quiet"
              style={across(one.start, one.end)}
            >
              {one.code}
            </span>
          )),
        )}
      </fieldset>
      {spoken.notes.map((note) => (
        <p key={note} className={spoken.said ? "text-quiet" : "text-rust"}>
          {note}
        </p>
      ))}
      <div className="flex flex-wrap items-center gap-3 text-[14px]">
        <Download aria-hidden className="size-4 text-quiet" />
        {Object.entries(spoken.files).map(([suffix, content]) => (
          <a
            key={suffix}
            className="underline underline-offset-4"
            download={`${name}${suffix}`}
            href={`data:text/plain;charset=utf-8,${encodeURIComponent(content)}`}
          >
            {suffix}
          </a>
        ))}
      </div>
    </>
  );
}
