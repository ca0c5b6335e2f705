/** The stages of the work, in their order. */
import { Eye, FolderOpen, Hammer, Images, PlayCircle, Scale } from "lucide-react";
import { BY_SIGNS, type Project } from "../api/client";

export const STAGES = [
  { id: "open", name: "Open", icon: FolderOpen, hint: "the game and its proofs" },
  { id: "find", name: "Find", icon: Images, hint: "every picture, sound and text" },
  { id: "edit", name: "Edit", icon: Eye, hint: "the original and your edit, together" },
  { id: "check", name: "Check", icon: Scale, hint: "what the game would trip over" },
  { id: "build", name: "Build", icon: Hammer, hint: "into the game's files, and back" },
  { id: "try", name: "Try", icon: PlayCircle, hint: "see it as the game would" },
] as const;

export type StageId = (typeof STAGES)[number]["id"];

/** What waits at each stage: a number and what it counts; `attention` where something is wrong. */
export function waiting(
  project: Project | undefined,
): Partial<Record<StageId, { number: number; what: string; attention?: boolean }>> {
  if (!project) return {};
  const { counts } = project;
  return {
    open: {
      number: project.archives.filter((archive) => archive.layout !== BY_SIGNS).length,
      what: "archives",
    },
    find: { number: counts.members, what: "items" },
    edit: { number: counts.in_work, what: "being edited" },
    check: { number: counts.attention, what: "need attention", attention: counts.attention > 0 },
    build: { number: counts.ready + counts.attention, what: "edits to build" },
    try: { number: counts.built_files, what: "changed game files" },
  };
}

/** Where the next useful action lies, and what it is. */
export function nextAction(project: Project | undefined): { stage: StageId; words: string } {
  if (!project) return { stage: "open", words: "Choose a game" };
  const { counts } = project;
  if (counts.in_work === 0) return { stage: "find", words: "Choose something to change" };
  if (counts.attention > 0) return { stage: "check", words: "Put the findings right" };
  if (counts.ready > 0) return { stage: "build", words: "Build your edits into the game" };
  // What was ready is in the game.
  if (counts.built_files > 0) return { stage: "try", words: "See it in the game" };
  return { stage: "edit", words: "Paint, and save the file" };
}
