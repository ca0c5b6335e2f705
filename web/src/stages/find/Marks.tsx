import { DropdownMenu } from "radix-ui";
import { useManyTestColours } from "../../api/queries";
import { useKinds } from "../../assets/kinds";
import { ENTRY, Menu } from "../../components/Menu";

/** What shows in the game which item is where; all of it can be taken back at once. */
export function Marks({ project, choose }: { project: string; choose: () => Promise<string[]> }) {
  const act = useManyTestColours(project);
  const marks = (useKinds().data?.kinds ?? []).flatMap((kind) => kind.marks);
  const put = (mark: string | null) => choose().then((addresses) => act({ addresses, mark }));
  return (
    <Menu words="Test colours">
      {marks.map(({ id, words }) => (
        <DropdownMenu.Item key={id} className={ENTRY} onSelect={() => put(id)}>
          {words}
        </DropdownMenu.Item>
      ))}
      <DropdownMenu.Separator className="my-1 h-px bg-line" />
      <DropdownMenu.Item className={ENTRY} onSelect={() => put(null)}>
        Take test colours back
      </DropdownMenu.Item>
    </Menu>
  );
}
