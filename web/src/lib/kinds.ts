/** The kinds of items, as people call them, with their signs. */
import { AudioLines, Binary, FileText, Images, Layers, type LucideIcon, Package } from "lucide-react";

export const KINDS: Record<string, { name: string; icon: LucideIcon }> = {
  texture: { name: "Textures", icon: Images },
  sound: { name: "Sounds", icon: AudioLines },
  text: { name: "Texts", icon: FileText },
  archive: { name: "Archives inside", icon: Package },
  levels: { name: "Streamed levels", icon: Layers },
  data: { name: "Other data", icon: Binary },
};
