import { ChevronDown } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { useManyTestColours } from "../../api/queries";
import { useKinds } from "../../assets/kinds";

/** What shows in the game which item is where; all of it can be taken back at once. */
export function Marks({ project, choose }: { project: string; choose: () => Promise<string[]> }) {
  const act = useManyTestColours(project);
  const marks = (useKinds().data?.kinds ?? []).flatMap((kind) => kind.marks);
  const put = (mark: string | null) => choose().then((addresses) => act({ addresses, mark }));
  const entry =
    "cursor-pointer rounded-md px-3 py-1.5 outline-none data-[highlighted]:bg-sunk data-[highlighted]:text-ink";
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="inline-flex items-center gap-1.5 rounded-lg bg-sunk px-3.5 py-1.5 whitespace-nowrap hover:bg-line disabled:opacity-55">
        Test colours <ChevronDown aria-hidden className="size-4" />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={6}
          className="z-20 min-w-60 rounded-xl border border-line bg-raised p-1.5 shadow-lg"
        >
          {marks.map(({ id, words }) => (
            <DropdownMenu.Item key={id} className={entry} onSelect={() => put(id)}>
              {words}
            </DropdownMenu.Item>
          ))}
          <DropdownMenu.Separator className="my-1 h-px bg-line" />
          <DropdownMenu.Item className={entry} onSelect={() => put(null)}>
            Take test colours back
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
