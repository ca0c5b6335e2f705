import { ChevronDown, ChevronRight, Upload } from "lucide-react";
import { type ReactNode, useState } from "react";

/** A section of a panel that opens on its title; `words` say in short how it stands. */
export function Fold({
  title,
  words,
  onOpen,
  children,
}: {
  title: string;
  words: string;
  onOpen?: (open: boolean) => void;
  children: ReactNode;
}) {
  const [open, setOpen] = useState(false);
  const Sign = open ? ChevronDown : ChevronRight;
  return (
    <section className="rounded-xl bg-raised p-3.5 text-[14px]" aria-label={title}>
      <button
        type="button"
        aria-expanded={open}
        onClick={() => {
          setOpen(!open);
          onOpen?.(!open);
        }}
        className="flex w-full items-center gap-2 text-left font-bold"
      >
        <Sign aria-hidden className="size-4" />
        {title}
        <span className="ml-auto truncate pl-3 font-normal text-quiet">{words}</span>
      </button>
      {open && children}
    </section>
  );
}

/** A small button that asks for a picture. */
export function BringPicture({
  label,
  title,
  onFile,
}: {
  label: string;
  title: string;
  onFile: (file: File) => void;
}) {
  return (
    <label title={title} className="cursor-pointer rounded p-1 focus-within:outline-2 hover:bg-sunk">
      <Upload aria-hidden className="size-4" />
      <input
        type="file"
        className="sr-only"
        aria-label={label}
        accept="image/*,.dds,.ktx2,.tga,.hdr,.exr,.psd"
        onChange={(event) => {
          const file = event.target.files?.[0];
          if (file) onFile(file);
          event.target.value = "";
        }}
      />
    </label>
  );
}
