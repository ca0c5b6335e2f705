/** A searchable list of everything that can be done from here. */
import { Command } from "cmdk";
import { useNavigate } from "react-router";
import { useBuild, useEdits, useEnd, useGoTo, useOpenAgain, useProject, useRestore } from "../api/queries";
import { GROUNDS, setLook, theme } from "./look";
import { nextAction, STAGES } from "./stages";

type Action = { group: string; name: string; keys?: string; run: () => void };

export function Actions({
  project,
  open,
  onOpenChange,
}: {
  project: string;
  open: boolean;
  onOpenChange: (open: boolean) => void;
}) {
  const navigate = useNavigate();
  const { data } = useProject(project);
  const { data: edits = [] } = useEdits(project);
  const build = useBuild(project);
  const restore = useRestore(project);
  const again = useOpenAgain();
  const goTo = useGoTo(project);
  const end = useEnd();
  const next = nextAction(data);
  const go = (stage: string, query = "") => navigate(`/p/${project}/${stage}${query}`);

  const actions: Action[] = [];
  if (project) {
    actions.push({ group: "Next", name: next.words, run: () => go(next.stage) });
    STAGES.forEach(({ id, name, hint }, index) => {
      actions.push({ group: "Go to", name: `${name}: ${hint}`, keys: `Alt ${index + 1}`, run: () => go(id) });
    });
    for (const edit of edits) {
      const query = `?item=${encodeURIComponent(edit.address)}`;
      actions.push({ group: "Editing", name: `Look at ${edit.name}`, run: () => go("edit", query) });
      if (edit.position > 0)
        actions.push({
          group: "Editing",
          name: `Undo: ${edit.name}`,
          run: () => goTo.mutate({ address: edit.address, position: edit.position - 1 }),
        });
    }
    actions.push(
      {
        group: "Game",
        name: "Build now",
        run: () => build.mutate(false, { onSuccess: () => go("build") }),
      },
      {
        group: "Game",
        name: "Restore every original",
        run: () => restore.mutate({ paths: null }, { onSuccess: () => go("build") }),
      },
      { group: "Game", name: "Look through the game again", run: () => again.mutate(project) },
    );
  }
  actions.push(
    { group: "Page", name: "All games", run: () => navigate("/") },
    { group: "Page", name: "End Brae", run: () => end.mutate() },
    {
      group: "Page",
      name: "Change between light and dark",
      run: () => setLook({ theme: theme() === "dark" ? "light" : "dark" }),
    },
    ...GROUNDS.map((ground) => ({
      group: "Page",
      name: `Pictures on ${ground === "mid" ? "mid-grey" : ground}`,
      run: () => setLook({ ground }),
    })),
  );
  const groups = [...new Set(actions.map((action) => action.group))];

  return (
    <Command.Dialog
      open={open}
      onOpenChange={onOpenChange}
      label="Actions"
      overlayClassName="fixed inset-0 bg-black/50"
      contentClassName="fixed top-[12vh] left-1/2 w-[560px] -translate-x-1/2 overflow-hidden rounded-2xl bg-raised shadow-2xl"
    >
      <Command.Input
        placeholder="What would you like to do?"
        className="w-full bg-transparent px-5 py-4 text-[17px] outline-none"
      />
      <Command.List className="max-h-[50vh] overflow-auto border-t border-line p-2">
        <Command.Empty className="p-4 text-quiet">Nothing of that name.</Command.Empty>
        {groups.map((group) => (
          <Command.Group
            key={group}
            heading={group}
            className="[&_[cmdk-group-heading]]:px-3 [&_[cmdk-group-heading]]:pt-2 [&_[cmdk-group-heading]]:text-[13px] [&_[cmdk-group-heading]]:text-quiet"
          >
            {actions
              .filter((action) => action.group === group)
              .map((action) => (
                <Command.Item
                  key={action.name}
                  value={`${group} ${action.name}`}
                  onSelect={() => {
                    onOpenChange(false);
                    action.run();
                  }}
                  className="flex cursor-pointer justify-between rounded-lg px-3 py-1.5 data-[selected=true]:bg-heather-soft"
                >
                  {action.name}
                  {action.keys && <kbd className="text-[13px] text-quiet">{action.keys}</kbd>}
                </Command.Item>
              ))}
          </Command.Group>
        ))}
      </Command.List>
    </Command.Dialog>
  );
}
