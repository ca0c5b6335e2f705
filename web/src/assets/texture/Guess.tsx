/** Bytes without a header: ten explanations as pictures, corrected by hand, kept as a layout. */
import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { toast } from "sonner";
import { client, type Schemas, take } from "../../api/client";
import { useAct, useOpenAgain } from "../../api/queries";
import { Button, Empty } from "../../components/controls";
import { bytes } from "../../lib/format";
import { guessUrl, STORAGES, storageOf, words } from "./guesses";

type Guess = Schemas["Guess"];
const TYPING = 200;

export default function TextureGuess({ project, address }: { project: string; address: string }) {
  const { data, error } = useQuery({
    queryKey: ["guesses", project, address],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/texture/guesses", {
          params: { path: { project_id: project }, query: { address } },
        }),
      ),
    staleTime: Number.POSITIVE_INFINITY,
  });
  if (error) return <Empty title="These bytes cannot be looked at">{error.message}</Empty>;
  if (!data)
    return <Empty title="Looking at the bytes">Trying every format, side and order of pixels …</Empty>;
  return <Bench project={project} address={address} found={data} />;
}

const BY_HAND: Guess = {
  format: "rgba8",
  width: 64,
  height: 64,
  levels: 1,
  fit: 0,
  offset: 0,
  order_guessed: false,
};

/** A square that there are bytes for, to begin with. */
function sides(rest: number): { width: number; height: number } {
  const side = Math.min(BY_HAND.width, 2 ** Math.max(0, Math.floor(Math.log2(Math.sqrt(rest / 4)))));
  return { width: side, height: side };
}

function Bench({
  project,
  address,
  found,
}: {
  project: string;
  address: string;
  found: Schemas["TextureGuesses"];
}) {
  const { size, guesses, formats } = found;
  // Of a larger file the place may be known already: then the picture begins there.
  const from = Number(useSearchParams()[0].get("from") ?? 0);
  const [guess, setGuess] = useState<Guess>(
    from > 0 ? { ...BY_HAND, ...sides(size - from), offset: from } : (guesses[0] ?? BY_HAND),
  );
  const [drawn, setDrawn] = useState(guess);
  const [fault, setFault] = useState(false);
  const [title, setTitle] = useState("");
  const [oneSize, setOneSize] = useState(true);
  const keep = useAct(
    (body: Schemas["KeepTextureGuess"]) =>
      take(
        client.POST("/api/projects/{project_id}/texture/guesses", {
          params: { path: { project_id: project } },
          body,
        }),
      ),
    (kept) => toast.success(`The layout is kept as ${kept.file}`),
  );
  const again = useOpenAgain();
  const navigate = useNavigate();
  useEffect(() => {
    const timer = setTimeout(() => {
      setFault(false);
      setDrawn(guess);
    }, TYPING);
    return () => clearTimeout(timer);
  }, [guess]);
  const change = (part: Partial<Guess>) => setGuess({ ...guess, ...part, fit: 0 });
  const name = address.split("//").pop() ?? address;
  const ending = name.includes(".") ? `*.${name.split(".").pop()}` : name;
  const use = () =>
    keep.mutate(
      { address, guess, title, one_size: oneSize },
      { onSuccess: () => again.mutate(project, { onSuccess: () => navigate(`/p/${project}/find`) }) },
    );
  return (
    <div className="flex h-full gap-4 px-5 pt-1 pb-3">
      <section
        className="flex w-[285px] min-[1100px]:w-[420px] shrink-0 flex-col gap-2"
        aria-label="What it could be"
      >
        <div className="flex items-baseline gap-3">
          <h1 className="min-w-0 flex-1 truncate text-[20px] font-bold" title={name}>
            {name}
          </h1>
          <Link to={`/p/${project}/find`} className="text-quiet underline underline-offset-4">
            back to Find
          </Link>
        </div>
        <p className="text-quiet">
          {guesses.length
            ? `${bytes(size)}. Which of these is it? The likeliest comes first.`
            : `${bytes(size)}, which no usual sides explain. Try by hand.`}
        </p>
        <ol className="grid grid-cols-2 min-[1100px]:grid-cols-3 gap-2 overflow-auto p-0.5 pb-1">
          {guesses.map((one, number) => (
            <li key={words(one)}>
              <button
                type="button"
                aria-pressed={words(one) === words(guess)}
                onClick={() => setGuess(one)}
                className="grid w-full gap-1 rounded-xl p-1.5 text-left hover:bg-sunk aria-pressed:bg-heather-soft"
              >
                <span className="ground grid h-28 place-items-center overflow-hidden rounded-lg">
                  <img
                    alt={`Guess ${number + 1}`}
                    className="pixelated max-h-full max-w-full object-contain"
                    src={guessUrl(project, address, one, 112)}
                  />
                </span>
                <span className="text-[13.5px] leading-tight">
                  {one.width} × {one.height}
                  <br />
                  <span className="text-quiet">
                    {one.format.toUpperCase()}
                    {one.levels > 1 ? `, ${one.levels} levels` : ""}
                    {one.order_guessed && ", red or blue first?"}
                  </span>
                </span>
              </button>
            </li>
          ))}
        </ol>
      </section>
      <section className="ground relative min-w-0 flex-1 overflow-auto rounded-xl" aria-label="As it looks">
        {fault ? (
          <p className="m-4 rounded-lg bg-raised p-3 text-ink">
            There are too few bytes for that, or the format and the sides do not go together.
          </p>
        ) : (
          <img
            alt={`${name} as ${words(drawn)}`}
            className={`m-auto ${Math.max(drawn.width, drawn.height) <= 256 ? "pixelated w-[min(90%,512px)]" : "max-w-full"} p-3`}
            src={guessUrl(project, address, drawn, 1024)}
            onError={() => setFault(true)}
          />
        )}
      </section>
      <aside
        className="flex w-[250px] min-[1100px]:w-[300px] shrink-0 flex-col gap-3 overflow-auto"
        aria-label="By hand"
      >
        <div className="grid gap-2 rounded-xl bg-raised p-3.5 text-[14.5px]">
          <h2 className="font-bold">By hand</h2>
          {guess.order_guessed && (
            <p className="text-quiet">
              Nothing in the bytes tells whether red or blue comes first. Both are among the explanations:
              choose by the colours.
            </p>
          )}
          <Field label="Pixel format">
            <select
              value={guess.format}
              onChange={(event) =>
                change({ format: event.target.value, palette: null, order_guessed: false })
              }
              className="min-w-0 rounded-lg bg-sunk px-2 py-1"
            >
              {formats.map((one) => (
                <option key={one} value={one}>
                  {one.toUpperCase()}
                </option>
              ))}
            </select>
          </Field>
          <NumberField label="Width" value={guess.width} onChange={(width) => change({ width })} />
          <NumberField label="Height" value={guess.height} onChange={(height) => change({ height })} />
          <NumberField label="Mip levels" value={guess.levels} onChange={(levels) => change({ levels })} />
          <NumberField
            label="Begins at"
            least={0}
            value={guess.offset}
            onChange={(offset) => change({ offset })}
          />
          <Field label="Order">
            <select
              value={storageOf(guess)}
              onChange={(event) => change({ storage: STORAGES[event.target.value]?.storage ?? null })}
              className="min-w-0 rounded-lg bg-sunk px-2 py-1"
            >
              {Object.entries(STORAGES).map(([id, { name: order }]) => (
                <option key={id} value={id}>
                  {order}
                </option>
              ))}
              {storageOf(guess) === "other" && <option value="other">tiles</option>}
            </select>
          </Field>
        </div>
        <div className="grid gap-2 rounded-xl bg-raised p-3.5 text-[14.5px]">
          <h2 className="font-bold">Keep it</h2>
          <p className="text-quiet">
            As a layout for this item and its siblings: every <b>{ending}</b>
            {oneSize ? ` of ${bytes(size)}` : ""}.
          </p>
          <label className="flex items-center gap-2">
            <input
              type="checkbox"
              checked={oneSize}
              onChange={(event) => setOneSize(event.target.checked)}
              className="size-4 accent-heather"
            />
            only those of the same size
          </label>
          <input
            aria-label="A name for the layout"
            placeholder="a name, such as: wall tiles"
            value={title}
            onChange={(event) => setTitle(event.target.value)}
            className="rounded-lg border border-line bg-raised px-2 py-1.5"
          />
          <Button look="act" disabled={fault || keep.isPending} onClick={use}>
            Keep and open again
          </Button>
        </div>
      </aside>
    </div>
  );
}

function Field({ label, children }: { label: string; children: React.ReactNode }) {
  return (
    // biome-ignore lint/a11y/noLabelWithoutControl: the control is the child
    <label className="grid grid-cols-[100px_1fr] items-center gap-2">
      <span className="text-quiet">{label}</span>
      {children}
    </label>
  );
}

function NumberField({
  label,
  value,
  least = 1,
  onChange,
}: {
  label: string;
  value: number;
  least?: number;
  onChange: (value: number) => void;
}) {
  return (
    <Field label={label}>
      <input
        type="number"
        min={least}
        max={65536}
        value={value}
        onChange={(event) => {
          const next = Number.parseInt(event.target.value, 10);
          if (next >= least) onChange(next);
        }}
        className="min-w-0 rounded-lg bg-sunk px-2 py-1 tabular-nums"
      />
    </Field>
  );
}
