/** How a picture lies in a pane: `zoom` screen pixels for each of its pixels, its corner at `x`, `y`. */
export type View = { zoom: number; x: number; y: number };
export type Size = { width: number; height: number };

export const SMALLEST = 1 / 64;
export const LARGEST = 32;

/** The whole picture, centred; never larger than 8 : 1, by whole steps where it is enlarged. */
export function fitting(picture: Size, pane: Size): View {
  const most = Math.min((pane.width - 24) / picture.width, (pane.height - 24) / picture.height, 8);
  const zoom = Math.max(SMALLEST, most >= 1 ? Math.floor(most) : most);
  return centred(picture, pane, zoom);
}

/** The picture in the middle at a zoom. */
export function centred(picture: Size, pane: Size, zoom: number): View {
  return {
    zoom,
    x: Math.round((pane.width - picture.width * zoom) / 2),
    y: Math.round((pane.height - picture.height * zoom) / 2),
  };
}

/** Another zoom by which the point `at` of the pane stays where it is. */
export function zoomAt(view: View, factor: number, at: { x: number; y: number }): View {
  const zoom = Math.min(LARGEST, Math.max(SMALLEST, view.zoom * factor));
  const scale = zoom / view.zoom;
  return { zoom, x: at.x - (at.x - view.x) * scale, y: at.y - (at.y - view.y) * scale };
}

/** Pictures with longer sides are fetched in parts. */
export const LARGE = 2048;
const SIDE = 512;

/** A part of a level: `times` of its pixels each way are one of the part's; where it lies in the pane. */
export type Tile = { query: string; left: number; top: number; width: number; height: number };

/** The parts of a large level that a pane shows, at about one pixel for each of the screen's. */
export function tiles(picture: Size, level: number, view: View, pane: Size): Tile[] {
  const wide = Math.max(1, picture.width >> level);
  const high = Math.max(1, picture.height >> level);
  const scale = (view.zoom * picture.width) / wide;
  const times = 2 ** Math.max(0, Math.floor(Math.log2(1 / scale)));
  const step = SIDE * times;
  const found: Tile[] = [];
  const first = (at: number) => Math.max(0, Math.floor(-at / scale / step));
  const last = (at: number, room: number, whole: number) =>
    Math.min(Math.ceil(whole / step), Math.ceil((room - at) / scale / step));
  for (let row = first(view.y); row < last(view.y, pane.height, high); row++)
    for (let column = first(view.x); column < last(view.x, pane.width, wide); column++) {
      const [left, top] = [column * step, row * step];
      found.push({
        query: `${left},${top},${SIDE},${times}`,
        left: view.x + left * scale,
        top: view.y + top * scale,
        width: Math.min(step, wide - left) * scale,
        height: Math.min(step, high - top) * scale,
      });
    }
  return found;
}
