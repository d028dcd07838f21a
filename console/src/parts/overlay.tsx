// What comes over a page: a dialog in the middle, a drawer at the side, a question before something
// is done. Focus, Escape and what a screen reader hears come from the library.

import { AlertDialog } from "@base-ui/react/alert-dialog";
import { Dialog } from "@base-ui/react/dialog";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { X } from "lucide-react";
import { type ReactNode, useRef, useState } from "react";
import { Trouble } from "./trouble";
import { unsaved, useLeaving } from "./unsaved";

const VEIL = "fixed inset-0 z-30 bg-neutral/40";
const BOX = "fixed z-40 flex flex-col border-base-300 bg-base-100 text-base-content outline-none";

function Head({ title, note }: { title: string; note?: string | undefined }) {
  return (
    <div className="flex items-start justify-between gap-2 border-b border-base-300 px-4 py-3">
      <div>
        <Dialog.Title className="text-base font-semibold">{title}</Dialog.Title>
        {note && <Dialog.Description className="quiet">{note}</Dialog.Description>}
      </div>
      <Dialog.Close className="btn btn-ghost btn-sm btn-square" aria-label="Close">
        <X className="size-4" aria-hidden="true" />
      </Dialog.Close>
    </div>
  );
}

/** What is edited: at the side, over the page that it belongs to. */
export function Drawer({
  title,
  note,
  open,
  close,
  wide,
  children,
}: {
  title: string;
  note?: string | undefined;
  open: boolean;
  close: () => void;
  wide?: boolean | undefined;
  children: ReactNode;
}) {
  const popup = useRef<HTMLDivElement>(null);
  const [asking, setAsking] = useState(false);
  const left = (next: boolean) => {
    if (next) return;
    if (unsaved(popup.current)) setAsking(true);
    else close();
  };
  return (
    <Dialog.Root open={open} onOpenChange={left}>
      <Dialog.Portal>
        <Dialog.Backdrop className={VEIL} />
        <Dialog.Popup
          ref={popup}
          className={`${BOX} inset-y-0 right-0 border-l ${wide ? "w-[min(56rem,100vw)]" : "w-[min(30rem,100vw)]"}`}
        >
          <Head title={title} note={note} />
          <div className="grow overflow-y-auto px-4 py-3">{children}</div>
          {asking && (
            <Discard
              stay={() => setAsking(false)}
              go={() => {
                setAsking(false);
                close();
              }}
            />
          )}
        </Dialog.Popup>
      </Dialog.Portal>
    </Dialog.Root>
  );
}

/** A drawer with the button that opens it. */
export function DrawerButton({
  label,
  more,
  icon,
  title = label,
  note,
  look = "btn-sm",
  wide,
  children,
}: {
  label: string;
  /** What a screen reader hears after the label, where there is little room. */
  more?: string;
  icon?: ReactNode;
  title?: string;
  note?: string;
  look?: string;
  wide?: boolean;
  children: (close: () => void) => ReactNode;
}) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button
        type="button"
        className={`btn ${look} whitespace-nowrap`}
        aria-haspopup="dialog"
        onClick={() => setOpen(true)}
      >
        {icon}
        <span>
          {label}
          {more && <span className="sr-only"> {more}</span>}
        </span>
      </button>
      <Drawer title={title} note={note} open={open} close={() => setOpen(false)} wide={wide}>
        {children(() => setOpen(false))}
      </Drawer>
    </>
  );
}

/** The question before what was typed is lost. */
function Discard({ stay, go }: { stay: () => void; go: () => void }) {
  return (
    <AlertDialog.Root open onOpenChange={(next) => !next && stay()}>
      <AlertDialog.Portal>
        <AlertDialog.Backdrop forceRender className={`${VEIL} z-50`} />
        <AlertDialog.Popup
          className={`${BOX} left-1/2 top-[14dvh] z-50 w-[min(26rem,94vw)] -translate-x-1/2 gap-3 rounded-box border p-4`}
        >
          <AlertDialog.Title className="text-base font-semibold">
            Discard changes?
          </AlertDialog.Title>
          <AlertDialog.Description>What you typed here is not saved yet.</AlertDialog.Description>
          <div className="flex gap-2">
            <AlertDialog.Close className="btn btn-sm btn-primary">Keep editing</AlertDialog.Close>
            <button type="button" className="btn btn-sm" onClick={go}>
              Discard
            </button>
          </div>
        </AlertDialog.Popup>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}

/** The same question before a page is left. */
export function Leaving() {
  const { waiting, go, stay } = useLeaving();
  return waiting ? <Discard stay={stay} go={go} /> : null;
}

/** A question before something is done, with what it would change. */
export function Ask({
  title,
  children,
  label,
  run,
  close,
  danger,
  after = [],
}: {
  title: string;
  children?: ReactNode;
  label: string;
  run: () => Promise<unknown>;
  close: () => void;
  danger?: boolean;
  after?: string[];
}) {
  const client = useQueryClient();
  const work = useMutation({
    mutationFn: run,
    onSuccess: async () => {
      await Promise.all(after.map((key) => client.invalidateQueries({ queryKey: [key] })));
      close();
    },
  });
  return (
    <AlertDialog.Root open onOpenChange={(next) => !next && close()}>
      <AlertDialog.Portal>
        <AlertDialog.Backdrop className={VEIL} />
        <AlertDialog.Popup
          className={`${BOX} left-1/2 top-[14dvh] max-h-[76dvh] w-[min(34rem,94vw)] -translate-x-1/2 rounded-box border`}
        >
          <AlertDialog.Title className="px-4 pt-4 text-base font-semibold">
            {title}
          </AlertDialog.Title>
          <div className="overflow-y-auto px-4 py-2">
            {children}
            <Trouble error={work.error} />
          </div>
          <div className="flex gap-2 px-4 pb-4 pt-2">
            <button
              type="button"
              className={`btn btn-sm ${danger ? "btn-error" : "btn-primary"}`}
              onClick={() => work.mutate()}
              disabled={work.isPending}
              aria-busy={work.isPending}
            >
              {label}
            </button>
            <AlertDialog.Close className="btn btn-sm">Cancel</AlertDialog.Close>
          </div>
        </AlertDialog.Popup>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
