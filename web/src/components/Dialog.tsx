/** A dialog: its title, what it does in words, its fields. */
import { Dialog } from "radix-ui";
import { type ReactNode, useId } from "react";

export function RoomDialog({
  button,
  title,
  words,
  children,
  open,
  onOpen,
}: {
  button: ReactNode;
  title: string;
  words: string;
  children: ReactNode;
  open?: boolean;
  onOpen?: (open: boolean) => void;
}) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpen}>
      <Dialog.Trigger asChild>{button}</Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-20 bg-black/50" />
        <Dialog.Content className="fixed top-[8vh] left-1/2 z-20 flex max-h-[84vh] w-[600px] max-w-[94vw] -translate-x-1/2 flex-col gap-4 overflow-auto rounded-2xl bg-raised p-5 shadow-2xl">
          <Dialog.Title className="text-[20px] font-bold">{title}</Dialog.Title>
          <Dialog.Description className="text-quiet">{words}</Dialog.Description>
          {children}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

export function Field({
  label,
  value,
  placeholder,
  onChange,
}: {
  label: string;
  value: string;
  placeholder?: string;
  onChange: (value: string) => void;
}) {
  const id = useId();
  return (
    <div className="grid gap-1">
      <label htmlFor={id} className="font-bold">
        {label}
      </label>
      <input
        id={id}
        className="rounded-lg border border-line bg-paper px-3 py-1.5"
        value={value}
        placeholder={placeholder}
        spellCheck={false}
        onChange={(event) => onChange(event.target.value)}
      />
    </div>
  );
}
