/** A new item like another one: its name, the picture that it is made of, the material for it, and what uses it. */
import { CopyPlus } from "lucide-react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { useMakeNew, useProposal } from "../api/queries";
import { useKinds } from "../assets/kinds";
import { baseName } from "../lib/format";
import { Button, Choice, Tick } from "./controls";
import { Field, RoomDialog } from "./Dialog";

/** the choice of nothing: no address of any item */
const NONE = "none";

export function NewItem({ project, address, name }: { project: string; address: string; name: string }) {
  const [open, setOpen] = useState(false);
  return (
    <RoomDialog
      button={
        <Button>
          <CopyPlus aria-hidden className="size-4" /> Make a new one like it
        </Button>
      }
      title={`A new one like ${baseName(name)}`}
      words="The game gets it with the next build, beside the one that it is made like. That one stays as it is."
      open={open}
      onOpen={setOpen}
    >
      {open && <Form project={project} address={address} onDone={() => setOpen(false)} />}
    </RoomDialog>
  );
}

/** The same folder and ending with another item's stem. */
function beside(path: string, named: string): string {
  const stem = baseName(named).replace(/\.[^.]*$/, "");
  return path.replace(/[^/]*?(\.[^./]*)?$/, `${stem}$1`);
}

function Form({ project, address, onDone }: { project: string; address: string; onDone: () => void }) {
  const navigate = useNavigate();
  const { data: here } = useProposal(project, address);
  const kinds = new Map(useKinds().data?.kinds.map((kind) => [kind.id, kind]));
  // What the picture is for: this item, or one that it names, of which a new one is made as well.
  const [named, setNamed] = useState<string | null>(null);
  // What names this item and is made anew as well.
  const [copied, setCopied] = useState<string | null>(null);
  const { data: above } = useProposal(project, copied);
  const { data: below } = useProposal(project, named);
  const [text, setText] = useState<string | null>(null);
  const [second, setSecond] = useState<string | null>(null);
  const [file, setFile] = useState<File | null>(null);
  const [byWorld, setByWorld] = useState<"own" | "world">("own");
  const [units, setUnits] = useState("");
  const [users, setUsers] = useState<string[]>([]);
  const make = useMakeNew(project, (made) => {
    onDone();
    const last = users[0];
    navigate(
      last
        ? `/p/${project}/edit?item=${encodeURIComponent(last)}`
        : `/p/${project}/find?item=${encodeURIComponent(made.at(-1) ?? "")}`,
    );
  });
  if (!here) return <p className="text-quiet">…</p>;
  const name = text ?? here.name;
  const pictured = named !== null ? below : here;
  const other = second ?? (named !== null ? beside(pictured?.name ?? "", name) : (above?.name ?? ""));
  const wears = copied !== null ? above : here;
  const toCopy = here.used_by.filter((one) => kinds.get(one.kind)?.preview === "text" && here.sized);
  const call = (kind: string | undefined) => kinds.get(kind ?? "")?.title.toLowerCase() ?? "item";
  const size =
    byWorld === "world" && Number(units) > 0
      ? { units: Number(units), scale: here.scale, most: here.most }
      : { most: here.most };
  // A length in the world was asked for, and is not said yet.
  const unsized = byWorld === "world" && file !== null && !(Number(units) > 0);
  const start = () => {
    const wish = pictured?.sized && file ? size : {};
    if (named !== null)
      make.mutate({ like: named, name: other, file, ...wish, copy: address, copy_name: name, users });
    else
      make.mutate({
        like: address,
        name,
        file,
        ...wish,
        ...(copied !== null ? { copy: copied, copy_name: other } : {}),
        users,
      });
  };
  return (
    <form
      className="grid gap-4"
      onSubmit={(event) => {
        event.preventDefault();
        start();
      }}
    >
      <Field label="Its name in the game" value={name} onChange={setText} />
      {here.uses.length > 0 && (
        <div className="grid gap-2">
          <b>What it uses</b>
          <Choice
            label="What it uses"
            value={named ?? NONE}
            options={[
              [NONE, "the same as now"],
              ...here.uses.map((one) => [one.address, `a new one for ${baseName(one.name)}`] as const),
            ]}
            onChange={(next) => {
              setNamed(next === NONE ? null : next);
              setSecond(null);
            }}
          />
        </div>
      )}
      {named !== null && <Field label="The name of the new one" value={other} onChange={setSecond} />}
      {pictured?.from_file && (named !== null || here.uses.length === 0) && (
        <div className="grid gap-2">
          <label className="grid gap-1">
            <b>The file that it is made of</b>
            <input
              type="file"
              className="rounded-lg border border-line bg-paper px-3 py-1.5"
              onChange={(event) => setFile(event.target.files?.[0] ?? null)}
            />
          </label>
          <p className="text-[14px] text-quiet">
            It is encoded like the one that it is made like. Without a file it begins as a copy of that.
          </p>
          {pictured.sized && file && (
            <div className="flex flex-wrap items-center gap-3">
              <Choice
                label="Its sides"
                value={byWorld}
                options={[
                  ["own", "sides of the picture"],
                  ["world", "by its length in the world"],
                ]}
                onChange={setByWorld}
              />
              {byWorld === "world" && (
                <label className="flex items-center gap-2">
                  <input
                    aria-label="Units of its longer side"
                    inputMode="decimal"
                    className="w-24 rounded-lg border border-line bg-paper px-3 py-1.5"
                    value={units}
                    onChange={(event) => setUnits(event.target.value)}
                  />
                  <span className="text-quiet">units, {here.scale} of them a texel</span>
                </label>
              )}
              <p className="w-full text-[14px] text-quiet">
                Made powers of two, at most {here.most} pixels: what every game takes.
              </p>
            </div>
          )}
        </div>
      )}
      {named === null && toCopy.length > 0 && (
        <div className="grid gap-2">
          <b>And a new {call(toCopy[0]?.kind)} for it</b>
          <Choice
            label={`And a new ${call(toCopy[0]?.kind)} for it`}
            value={copied ?? NONE}
            options={[
              [NONE, "none"],
              ...toCopy.slice(0, 4).map((one) => [one.address, `like ${baseName(one.name)}`] as const),
            ]}
            onChange={(next) => {
              setCopied(next === NONE ? null : next);
              setSecond(null);
              setUsers([]);
            }}
          />
          {copied !== null && <Field label="Its name" value={other} onChange={setSecond} />}
        </div>
      )}
      {wears && wears.used_by.length > 0 && (
        <fieldset className="grid gap-1">
          <legend className="mb-1 font-bold">From now on it is used by</legend>
          <div className="grid max-h-40 gap-1 overflow-auto">
            {wears.used_by.map((one) => (
              <Tick
                key={one.address}
                title={one.address}
                checked={users.includes(one.address)}
                onChange={(on) =>
                  setUsers((now) =>
                    on ? [...now, one.address] : now.filter((other) => other !== one.address),
                  )
                }
              >
                <span className="text-ink">{one.name}</span> {call(one.kind)}
              </Tick>
            ))}
          </div>
        </fieldset>
      )}
      {!here.ready && <p className="text-quiet">What uses it is still being read; look again in a moment.</p>}
      <div className="flex justify-end gap-2">
        <Button onClick={onDone}>Leave it</Button>
        <Button look="act" type="submit" disabled={make.isPending || name.trim() === "" || unsized}>
          {make.isPending ? "Making it…" : "Make it"}
        </Button>
      </div>
    </form>
  );
}
