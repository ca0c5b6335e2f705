/** Panes beside each other whose borders a person can move; where they stood is kept in this browser. */
import { Children, Fragment, isValidElement, type ReactNode } from "react";
import { Group, Panel, Separator, useDefaultLayout } from "react-resizable-panels";

type PaneProps = {
  id: string;
  /** pixels; the pane without one takes what is left */
  size?: number;
  least?: number;
  most?: number;
  children: ReactNode;
};

/** One pane; laid out by the Panes around it. */
export function Pane({ children }: PaneProps) {
  return children;
}

export function Panes({ id, children }: { id: string; children: ReactNode }) {
  const panes = Children.toArray(children).filter((child) => isValidElement<PaneProps>(child));
  const { defaultLayout, onLayoutChanged } = useDefaultLayout({
    id: `brae.panes.${id}`,
    panelIds: panes.map((pane) => pane.props.id),
    onlySaveAfterUserInteractions: true,
  });
  return (
    <Group className="h-full" defaultLayout={defaultLayout} onLayoutChanged={onLayoutChanged}>
      {panes.map((pane, number) => {
        const { id: own, size, least, most } = pane.props;
        return (
          <Fragment key={own}>
            {number > 0 && (
              <Separator
                className="w-1.5 rounded bg-transparent outline-none hover:bg-line focus-visible:bg-heather data-[separator=active]:bg-heather"
                aria-label="Border between the panes (arrow keys move it)"
              />
            )}
            <Panel
              id={own}
              className="flex min-w-0 flex-col"
              {...(size === undefined
                ? { minSize: least ?? 260 }
                : {
                    defaultSize: size,
                    minSize: least ?? 150,
                    maxSize: most ?? size * 2,
                    groupResizeBehavior: "preserve-pixel-size" as const,
                  })}
            >
              {pane}
            </Panel>
          </Fragment>
        );
      })}
    </Group>
  );
}
