/** Models in the light, turned by dragging; original and edit turn together. */
import { type KeyboardEvent, type PointerEvent, useEffect, useRef, useState } from "react";
import type { Group } from "three";
import { Button, Tick } from "../../components/controls";
import { Ground } from "../../components/Ground";
import { light as lightUp, useLit } from "./lit";
import { type Dress, type Look, load, Stage } from "./scene";

export type Shown = { name: string; url: string; dresses: Dress[] | undefined };
const START = { yaw: 35, pitch: 18, zoom: 1 };

export function Viewer({
  models,
  radius,
  light,
  canBeTextured,
}: {
  models: Shown[];
  radius: number;
  light: { direction: readonly number[]; floor: number; highlight: number; shininess: number };
  canBeTextured: boolean;
}) {
  const [view, setView] = useState(START);
  const [textured, setTextured] = useState(true);
  const [edges, setEdges] = useState(false);
  const [floor, setFloor] = useState<number | null>(null);
  const [highlight, setHighlight] = useState<number | null>(null);
  const [shininess, setShininess] = useState(light.shininess);
  const [from, setFrom] = useState(0);
  const lit = useLit();
  const look: Look = {
    ...view,
    textured: textured && canBeTextured,
    edges,
    direction: around(light.direction, from),
    floor,
    highlight,
    shininess,
    usual: light,
    lit: lit.part,
  };
  const own = floor === null && highlight === null && from === 0;
  const turn = (across: number, up: number) =>
    setView((now) => ({
      ...now,
      yaw: ((now.yaw + across + 540) % 360) - 180,
      pitch: Math.max(-90, Math.min(90, now.pitch + up)),
    }));
  const onKey = (event: KeyboardEvent) => {
    const ways: Record<string, [number, number]> = {
      ArrowLeft: [-10, 0],
      ArrowRight: [10, 0],
      ArrowUp: [0, 10],
      ArrowDown: [0, -10],
    };
    const way = ways[event.key];
    if (!way || event.target instanceof HTMLInputElement) return;
    event.preventDefault();
    turn(...way);
  };
  return (
    // biome-ignore lint/a11y/noStaticElementInteractions: the keys are for the models in it, which have the focus
    <div className="flex h-full min-h-0 flex-col gap-3" onKeyDown={onKey}>
      <div className="flex flex-wrap items-center gap-x-3 gap-y-2">
        {canBeTextured && (
          <Tick
            title="With the textures of its materials, as they are edited now"
            checked={textured}
            onChange={setTextured}
          >
            Textures
          </Tick>
        )}
        <Tick title="The edges of its triangles" checked={edges} onChange={setEdges}>
          Edges
        </Tick>
        <Slider label="Light from" value={from} least={-180} most={180} step={5} onChange={setFrom} />
        <Slider label="In the shade" value={floor ?? light.floor} most={1} onChange={setFloor} />
        <Slider label="Highlight" value={highlight ?? light.highlight} most={1} onChange={setHighlight} />
        <Slider label="Exponent" value={shininess} least={1} most={128} step={1} onChange={setShininess} />
        <Ground />
        <Button
          disabled={own && shininess === light.shininess && view === START}
          onClick={() => {
            setFloor(null);
            setHighlight(null);
            setFrom(0);
            setShininess(light.shininess);
            setView(START);
          }}
        >
          As in the game
        </Button>
      </div>
      <div className="flex min-h-0 flex-1 gap-2">
        {models.map((model) => (
          <Pane
            key={model.name}
            model={model}
            radius={radius}
            look={look}
            onTurn={turn}
            onZoom={(factor) =>
              setView((now) => ({ ...now, zoom: Math.max(0.5, Math.min(20, now.zoom * factor)) }))
            }
          />
        ))}
      </div>
    </div>
  );
}

/** A direction turned about the height by so many degrees. */
function around(direction: readonly number[], degrees: number): number[] {
  const [x = 0, y = 0, z = 1] = direction;
  const angle = (degrees * Math.PI) / 180;
  return [x * Math.cos(angle) + z * Math.sin(angle), y, z * Math.cos(angle) - x * Math.sin(angle)];
}

function Slider({
  label,
  value,
  least = 0,
  most,
  step = 0.01,
  onChange,
}: {
  label: string;
  value: number;
  least?: number;
  most: number;
  step?: number;
  onChange: (value: number) => void;
}) {
  return (
    <label className="flex items-center gap-2 text-[14px] text-quiet">
      {label}
      <input
        type="range"
        className="w-16 accent-heather min-[1200px]:w-24"
        min={least}
        max={most}
        step={step}
        value={value}
        onChange={(event) => onChange(event.target.valueAsNumber)}
      />
    </label>
  );
}

function Pane({
  model,
  radius,
  look,
  onTurn,
  onZoom,
}: {
  model: Shown;
  radius: number;
  look: Look;
  onTurn: (across: number, up: number) => void;
  onZoom: (factor: number) => void;
}) {
  const room = useRef<HTMLDivElement>(null);
  const canvas = useRef<HTMLCanvasElement>(null);
  const stage = useRef<Stage | null>(null);
  const held = useRef<{ x: number; y: number } | null>(null);
  const zoom = useRef(onZoom);
  zoom.current = onZoom;
  const [fault, setFault] = useState<string | null>(null);
  const [group, setGroup] = useState<Group | null>(null);
  useEffect(() => {
    const [box, place] = [room.current, canvas.current];
    if (!box || !place) return;
    try {
      stage.current = new Stage(place);
    } catch {
      setFault("This browser draws no models (WebGL is switched off).");
      return;
    }
    const measure = () => stage.current?.resize(Math.max(box.clientWidth, 1), Math.max(box.clientHeight, 1));
    measure();
    const observer = new ResizeObserver(measure);
    observer.observe(box);
    const onWheel = (event: WheelEvent) => {
      event.preventDefault();
      zoom.current(event.deltaY < 0 ? 1.15 : 1 / 1.15);
    };
    box.addEventListener("wheel", onWheel, { passive: false });
    return () => {
      box.removeEventListener("wheel", onWheel);
      observer.disconnect();
      stage.current?.end();
      stage.current = null;
    };
  }, []);
  useEffect(() => {
    let wanted = true;
    load(model.url)
      .then((made) => wanted && setGroup(made))
      .catch(
        (error) => wanted && setFault(error instanceof Error ? error.message : "It could not be loaded."),
      );
    return () => {
      wanted = false;
    };
  }, [model.url]);
  useEffect(() => {
    if (group) stage.current?.show(group, radius);
  }, [group, radius]);
  useEffect(() => stage.current?.dress(model.dresses ?? []), [model.dresses]);
  useEffect(() => stage.current?.see(look));
  const drag = (event: PointerEvent) => {
    const from = held.current;
    if (!from) {
      const room = event.currentTarget.getBoundingClientRect();
      const [x, y] = [(event.clientX - room.left) / room.width, (event.clientY - room.top) / room.height];
      lightUp(stage.current?.part(2 * x - 1, 1 - 2 * y) ?? null, "model");
      return;
    }
    onTurn((event.clientX - from.x) * 0.5, (event.clientY - from.y) * 0.5);
    held.current = { x: event.clientX, y: event.clientY };
  };
  return (
    <figure className="ground relative min-w-0 flex-1 overflow-hidden rounded-xl">
      <div ref={room} className="absolute inset-0">
        <canvas
          ref={canvas}
          role="img"
          tabIndex={0}
          aria-label={`The model, ${model.name}; turn it by dragging or with the arrow keys`}
          data-ready={group !== null && model.dresses !== undefined}
          className="size-full cursor-grab touch-none"
          onPointerDown={(event) => {
            held.current = { x: event.clientX, y: event.clientY };
            event.currentTarget.setPointerCapture(event.pointerId);
          }}
          onPointerMove={drag}
          onPointerLeave={() => lightUp(null, "model")}
          onPointerUp={() => {
            held.current = null;
          }}
          onPointerCancel={() => {
            held.current = null;
          }}
        />
      </div>
      {look.lit !== null && (
        <span className="absolute top-2 left-2 rounded bg-raised/90 px-2 text-[13.5px]">{look.lit}</span>
      )}
      {fault && <p className="absolute inset-x-4 top-1/2 text-center text-[#161616]">{fault}</p>}
      <figcaption className="absolute bottom-2 left-2 rounded bg-raised/90 px-2 text-[13.5px]">
        {model.name}
      </figcaption>
    </figure>
  );
}
