import { ChevronDown } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import type { ReactNode } from "react";

/** How an entry of a menu looks. */
export const ENTRY =
  "cursor-pointer rounded-md px-3 py-1.5 outline-none data-[highlighted]:bg-sunk data-[highlighted]:text-ink";

/** A button that opens a menu. */
export function Menu({
  words,
  look = "bg-sunk hover:bg-line",
  align = "end",
  disabled = false,
  children,
}: {
  words: ReactNode;
  look?: string;
  align?: "start" | "end";
  disabled?: boolean;
  children: ReactNode;
}) {
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger
        disabled={disabled}
        className={`inline-flex items-center gap-1.5 rounded-lg px-3 py-1.5 whitespace-nowrap disabled:opacity-55 ${look}`}
      >
        {words} <ChevronDown aria-hidden className="size-4" />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align={align}
          sideOffset={6}
          className="z-20 min-w-60 rounded-xl border border-line bg-raised p-1.5 shadow-lg"
        >
          {children}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
