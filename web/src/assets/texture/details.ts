/** What the server says of a texture's edit beyond what all kinds have. */
import type { Edit, Schemas } from "../../api/client";

export type TextureDetails = Schemas["TextureDetails"];

export function detailsOf(edit: Edit): TextureDetails {
  return edit.details as TextureDetails;
}
