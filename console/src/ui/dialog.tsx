import { useMutation } from "@tanstack/react-query";
import { Dialog as Primitive } from "radix-ui";
import type { ComponentProps, ReactNode } from "react";
import { Button, ErrorNote } from "./parts";

export function Dialog({
  open,
  onOpenChange,
  title,
  description,
  children,
}: {
  open: boolean;
  onOpenChange: (open: boolean) => void;
  title: string;
  description?: string;
  children: ReactNode;
}) {
  return (
    <Primitive.Root open={open} onOpenChange={onOpenChange}>
      <Primitive.Portal>
        <Primitive.Overlay className="fixed inset-0 z-20 bg-black/40" />
        <Primitive.Content
          // Escape shuts a list that is open in it before the dialog itself.
          onEscapeKeyDown={(e) => (e.target as HTMLElement).closest("[data-holds-escape]") && e.preventDefault()}
          className="fixed top-[12vh] left-1/2 z-30 max-h-[80vh] w-[min(34rem,calc(100vw-2rem))] -translate-x-1/2 overflow-auto rounded-lg border border-rule bg-sheet p-5 shadow-xl"
        >
          <Primitive.Title className="mb-1 text-lg font-semibold">{title}</Primitive.Title>
          <Primitive.Description className={description ? "mb-4 text-sm text-soft" : "sr-only"}>
            {description ?? title}
          </Primitive.Description>
          {children}
        </Primitive.Content>
      </Primitive.Portal>
    </Primitive.Root>
  );
}

/** Confirm asks before something that a person may not have meant; run does it, and brings up to date what shows it. */
export function Confirm({
  title,
  text,
  what,
  run,
  close,
}: {
  title: string;
  text: string;
  what: string;
  run: () => Promise<unknown>;
  close: () => void;
}) {
  const doing = useMutation({ mutationFn: run, onSuccess: close });
  return (
    <Dialog open onOpenChange={(open) => open || close()} title={title} description={text}>
      {doing.error && (
        <div className="mb-3">
          <ErrorNote error={doing.error} />
        </div>
      )}
      <div className="flex justify-end gap-2">
        <Button onClick={close}>Cancel</Button>
        <Button look="danger" disabled={doing.isPending} onClick={() => doing.mutate()}>
          {what}
        </Button>
      </div>
    </Dialog>
  );
}

const input = "h-9 w-full rounded border border-rule bg-paper px-2.5 text-sm";

export function Field({ label, hint, children }: { label: string; hint?: string; children: ReactNode }) {
  return (
    <label className="mb-3 block text-sm">
      <span className="mb-1 block font-medium">{label}</span>
      {children}
      {hint && <span className="mt-1 block text-xs text-soft">{hint}</span>}
    </label>
  );
}

export function TextInput(props: ComponentProps<"input">) {
  return <input {...props} className={`${input} ${props.className ?? ""}`} />;
}

export function TextArea(props: ComponentProps<"textarea">) {
  return (
    <textarea
      rows={2}
      {...props}
      className={`w-full rounded border border-rule bg-paper px-2.5 py-1.5 font-mono text-sm ${props.className ?? ""}`}
    />
  );
}

/** Choice is one of several; label is its name for who does not see what stands around it. */
export function Choice({
  label,
  value,
  onChange,
  options,
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  options: [string, string][];
}) {
  return (
    <select aria-label={label} className={input} value={value} onChange={(e) => onChange(e.target.value)}>
      {options.map(([key, text]) => (
        <option key={key} value={key}>
          {text}
        </option>
      ))}
    </select>
  );
}

export function Tick({
  checked,
  onChange,
  children,
}: {
  checked: boolean;
  onChange: (checked: boolean) => void;
  children: ReactNode;
}) {
  return (
    <label className="mb-3 flex items-start gap-2 text-sm">
      <input
        type="checkbox"
        className="mt-0.5 size-4 shrink-0 accent-(--deep)"
        checked={checked}
        onChange={(e) => onChange(e.target.checked)}
      />
      <span>{children}</span>
    </label>
  );
}
