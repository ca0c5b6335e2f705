/** How a picture lies in a pane: `zoom` screen pixels for each of its pixels, its corner at `x`, `y`. */
export type View = { zoom: number; x: number; y: number };
export type Size = { width: number; height: number };

export const SMALLEST = 1 / 16;
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
