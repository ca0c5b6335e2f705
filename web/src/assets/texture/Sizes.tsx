/** The same picture in every size that the game has of it, made of one. */
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { client, type Edit, previewUrl, take } from "../../api/client";
import { useAct, useEdits } from "../../api/queries";
import { Button, Tick } from "../../components/controls";
import { baseName } from "../../lib/format";

export function Sizes({ project, edit }: { project: string; edit: Edit }) {
  const { data: sizes } = useQuery({
    queryKey: ["sizes", project, edit.address],
    queryFn: () =>
      take(
        client.GET("/api/projects/{project_id}/edits/sizes", {
          params: { path: { project_id: project }, query: { address: edit.address } },
        }),
      ),
  });
  const edits = useEdits(project).data ?? [];
  const [master, setMaster] = useState<File | null>(null);
  const [middle, setMiddle] = useState({ x: 50, y: 50 });
  const [sharpen, setSharpen] = useState(0);
  const [shown, setShown] = useState(false);
  // Each size can have a crop of its own: only some are made.
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set());
  const wanted = (sizes ?? []).filter((one) => !left.has(one.address));
  const act = useAct((file: File) =>
    take(
      client.PUT("/api/projects/{project_id}/edits/sizes", {
        params: {
          path: { project_id: project },
          query: {
            address: edit.address,
            name: file.name,
            sharpen,
            x: middle.x / 100,
            y: middle.y / 100,
            only: wanted.map((one) => one.address),
          },
        },
        body: file as never,
        bodySerializer: (body) => body as never,
      }),
    ),
  );
  if (!sizes || sizes.length < 2) return null;
  return (
    <section aria-label="In several sizes" className="grid gap-3 rounded-xl bg-raised p-3.5 text-[14px]">
      <h2 className="font-bold">In {sizes.length} sizes</h2>
      <ul className="flex flex-wrap items-end gap-3">
        {sizes.map((one) => {
          const own = edits.find((other) => other.address === one.address);
          return (
            <li key={one.address} className="grid gap-1">
              <img
                alt={`${baseName(one.name)}, ${one.width} x ${one.height}`}
                className="ground pixelated max-w-full rounded"
                src={previewUrl(project, one.address, {
                  which: own?.position ? "edit" : "original",
                  revision: own?.revision ?? "none",
                })}
              />
              {one.address === edit.address ? (
                <b>
                  {one.width} x {one.height}
                </b>
              ) : (
                <Link
                  to={`/p/${project}/${own ? "edit" : "find"}?item=${encodeURIComponent(one.address)}`}
                  className="underline underline-offset-4"
                >
                  {one.width} x {one.height}
                </Link>
              )}
            </li>
          );
        })}
      </ul>
      <p className="text-quiet">
        One picture makes all of them: in each size with the mask, the frame and the shading that the other{" "}
        {Math.max(...sizes.map((one) => one.siblings)) - 1} have in common.
      </p>
      <details onToggle={({ currentTarget }) => setShown(currentTarget.open)}>
        <summary className="cursor-pointer underline underline-offset-4">What lies over each size</summary>
        {shown && (
          <img
            alt="The mask, the frame, the shadow and the light of each size, on black and on white; being worked out"
            className="mt-2 max-w-full rounded text-quiet"
            src={`/api/projects/${encodeURIComponent(project)}/edits/sizes/over?${new URLSearchParams({ address: edit.address })}`}
          />
        )}
      </details>
      <label className="grid gap-1">
        <span>
          The new picture, {sizes[0]?.width} x {sizes[0]?.height} or larger
        </span>
        <input
          type="file"
          accept="image/*,.dds,.ktx2,.tga,.psd"
          onChange={({ target }) => setMaster(target.files?.[0] ?? null)}
          className="min-w-0 rounded-lg bg-sunk p-1.5"
        />
      </label>
      {master && (
        <>
          <Slider
            label="Crop: left to right"
            value={middle.x}
            onChange={(x) => setMiddle({ ...middle, x })}
          />
          <Slider
            label="Crop: top to bottom"
            value={middle.y}
            onChange={(y) => setMiddle({ ...middle, y })}
          />
          <Slider
            label="Sharper edges"
            value={sharpen * 100}
            most={200}
            onChange={(amount) => setSharpen(amount / 100)}
          />
          <div className="flex flex-wrap gap-x-4 gap-y-1">
            {sizes.map((one) => (
              <Tick
                key={one.address}
                title="Made now; leave it out where it shall have another crop"
                checked={!left.has(one.address)}
                onChange={(on) => {
                  const next = new Set(left);
                  if (on) next.delete(one.address);
                  else next.add(one.address);
                  setLeft(next);
                }}
              >
                {one.width} x {one.height}
              </Tick>
            ))}
          </div>
          <Button
            look="act"
            disabled={act.isPending || wanted.length === 0}
            onClick={() => act.mutate(master)}
          >
            {wanted.length === sizes.length
              ? `Make all ${sizes.length} sizes`
              : `Make ${wanted.length} of ${sizes.length} sizes`}
          </Button>
        </>
      )}
    </section>
  );
}

function Slider({
  label,
  value,
  most = 100,
  onChange,
}: {
  label: string;
  value: number;
  most?: number;
  onChange: (value: number) => void;
}) {
  return (
    <label className="grid grid-cols-[9rem_1fr_2.5rem] items-center gap-2">
      <span>{label}</span>
      <input
        type="range"
        min={0}
        max={most}
        step={5}
        value={value}
        onChange={({ target }) => onChange(Number(target.value))}
        className="accent-heather"
      />
      <span className="text-right tabular-nums text-quiet">{value}</span>
    </label>
  );
}
