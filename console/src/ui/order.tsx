import { ArrowDown, ArrowUp, GripVertical, Plus, X } from "lucide-react";
import { type KeyboardEvent, useRef, useState } from "react";
import type { Schemas } from "../api/client";
import { Tick } from "./dialog";
import { Button } from "./parts";
import { Picker } from "./combobox";

type Member = Schemas["Member"];

/**
 * Order shows the members of a chain and lets them be moved: with the mouse,
 * with the buttons, or with Alt and the arrow keys.
 */
export function Order({
  members,
  onChange,
  candidates,
  describe,
}: {
  members: Member[];
  onChange?: (members: Member[]) => void;
  candidates: string[];
  describe?: (name: string) => React.ReactNode;
}) {
  const [dragged, setDragged] = useState<number | null>(null);
  const [adding, setAdding] = useState("");
  const [said, setSaid] = useState("");
  const list = useRef<HTMLOListElement>(null);
  const move = (from: number, to: number) => {
    if (!onChange || to < 0 || to >= members.length || from === to) return;
    const next = [...members];
    const [moved] = next.splice(from, 1);
    next.splice(to, 0, moved!);
    onChange(next);
    setSaid(`${moved!.name} is now number ${to + 1} of ${next.length}`);
    requestAnimationFrame(() => list.current?.querySelectorAll<HTMLElement>("[data-member]")[to]?.focus());
  };
  const keys = (e: KeyboardEvent, i: number) => {
    if (!e.altKey || (e.key !== "ArrowUp" && e.key !== "ArrowDown")) return;
    e.preventDefault();
    move(i, e.key === "ArrowUp" ? i - 1 : i + 1);
  };
  const rest = candidates.filter((c) => !members.some((m) => m.name === c));
  return (
    <>
      <ol ref={list} aria-label="Members in their order">
        {members.map((m, i) => (
          <li
            key={m.name}
            data-member
            tabIndex={onChange ? 0 : undefined}
            draggable={onChange !== undefined}
            onKeyDown={(e) => keys(e, i)}
            onDragStart={(e) => {
              setDragged(i);
              e.dataTransfer.effectAllowed = "move";
              e.dataTransfer.setData("text/plain", m.name);
            }}
            onDragOver={(e) => dragged !== null && e.preventDefault()}
            onDrop={(e) => {
              e.preventDefault();
              if (dragged !== null) move(dragged, i);
              setDragged(null);
            }}
            onDragEnd={() => setDragged(null)}
            className={`flex items-center gap-2.5 border-b border-rule px-3 py-2 last:border-0 ${dragged === i ? "opacity-40" : ""} ${dragged !== null && dragged !== i ? "hover:bg-wash" : ""}`}
          >
            {onChange && <GripVertical size={16} className="shrink-0 cursor-grab text-soft" aria-hidden />}
            <span className="w-5 shrink-0 text-right text-sm text-soft tabular-nums">{i + 1}</span>
            <div className="min-w-0 grow">
              <p className="truncate font-medium">{m.name}</p>
              {describe && <p className="truncate text-xs text-soft">{describe(m.name)}</p>}
            </div>
            {onChange ? (
              <>
                <div className="-mb-3 shrink-0 text-xs">
                  <Tick
                    checked={m.maySkip ?? false}
                    onChange={(maySkip) => onChange(members.map((o) => (o === m ? { ...m, maySkip } : o)))}
                  >
                    may be skipped
                  </Tick>
                </div>
                <IconButton label={`Move ${m.name} up`} disabled={i === 0} onClick={() => move(i, i - 1)}>
                  <ArrowUp size={15} />
                </IconButton>
                <IconButton
                  label={`Move ${m.name} down`}
                  disabled={i === members.length - 1}
                  onClick={() => move(i, i + 1)}
                >
                  <ArrowDown size={15} />
                </IconButton>
                <IconButton label={`Take ${m.name} out`} onClick={() => onChange(members.filter((o) => o !== m))}>
                  <X size={15} />
                </IconButton>
              </>
            ) : (
              m.maySkip && <span className="text-xs text-soft">may be skipped</span>
            )}
          </li>
        ))}
      </ol>
      {members.length === 0 && (
        <p className="px-3 py-4 text-sm text-soft">
          Nothing stands behind it yet. Add the repository that should answer first.
        </p>
      )}
      {onChange && rest.length > 0 && (
        <div className="flex gap-2 border-t border-rule p-3">
          <div className="min-w-0 grow">
            <Picker
              label="Add a repository"
              placeholder="another repository…"
              value={adding}
              onChange={setAdding}
              options={rest.map((c) => [c, c])}
            />
          </div>
          <Button
            className="h-9"
            disabled={!rest.includes(adding)}
            onClick={() => {
              onChange([...members, { name: adding }]);
              setAdding("");
            }}
          >
            <Plus size={15} /> Add at the end
          </Button>
        </div>
      )}
      <p className="sr-only" aria-live="polite">
        {said}
      </p>
    </>
  );
}

function IconButton({ label, ...rest }: React.ButtonHTMLAttributes<HTMLButtonElement> & { label: string }) {
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      className="cursor-pointer rounded p-1 text-soft hover:bg-wash hover:text-ink disabled:cursor-default disabled:opacity-30"
      {...rest}
    />
  );
}
