import { useCombobox, type UseComboboxStateChange } from "downshift";
import { type ComponentProps, type ReactNode, useDeferredValue, useState } from "react";
import { TextInput } from "./dialog";

/** Item is something that can be taken. */
export type Item = { key: string; text: string; note?: string; mark?: ReactNode };

/**
 * Combobox is a field in which one types, with a list of what can be taken: by
 * the arrow keys and Enter or Tab, or with the mouse.
 */
export function Combobox<T extends Item>({
  label,
  text,
  onText,
  items,
  onTake,
  always,
  first,
  mono,
  none,
  goesOn,
  ...input
}: {
  label: string;
  text: string;
  onText: (text: string) => void;
  items: T[];
  onTake: (item: T) => void;
  /** always: the list stands below the field all the time, and not over what follows. */
  always?: boolean;
  /** first: Enter takes the first one, without an arrow key before it. */
  first?: boolean;
  mono?: boolean;
  /** none stands instead of an empty list. */
  none?: string;
  /** goesOn: more can be taken after one was. */
  goesOn?: boolean;
} & Omit<ComponentProps<"input">, "onChange" | "value">) {
  const c = useCombobox<T>({
    items,
    inputValue: text,
    selectedItem: null,
    itemToString: (item) => item?.text ?? "",
    itemToKey: (item) => item?.key,
    isOpen: always ? true : undefined,
    defaultHighlightedIndex: first ? 0 : -1,
    stateReducer: (state, { type, changes }) => {
      switch (type) {
        case useCombobox.stateChangeTypes.InputBlur:
        case useCombobox.stateChangeTypes.InputKeyDownEscape:
          return { ...changes, selectedItem: null, inputValue: state.inputValue };
        case useCombobox.stateChangeTypes.ItemClick:
        case useCombobox.stateChangeTypes.InputKeyDownEnter:
          return { ...changes, isOpen: goesOn ?? false };
        default:
          return changes;
      }
    },
    onSelectedItemChange: ({ selectedItem }: UseComboboxStateChange<T>) => selectedItem && onTake(selectedItem),
  });
  const shown = c.isOpen && (items.length > 0 || none !== undefined);
  // A dialog takes the focus to itself where something vanishes from it while the focus is on
  // its way to another field: what is not shown any more goes a moment later.
  const drawn = useDeferredValue(shown) || shown;
  const { className, ...rest } = input;
  return (
    <div className="relative">
      <TextInput
        spellCheck={false}
        {...c.getInputProps({
          ...rest,
          "aria-label": label,
          "aria-labelledby": undefined,
          "aria-expanded": shown,
          onChange: (e) => onText(e.currentTarget.value),
          onKeyDown: (e) => {
            const chosen = items[c.highlightedIndex];
            if (e.key === "Tab" && !e.shiftKey && shown && !always && chosen) {
              e.preventDefault();
              onTake(chosen);
              if (!goesOn) c.closeMenu();
            }
          },
        })}
        data-holds-escape={shown && !always ? "" : undefined}
        className={`${mono ? "font-mono" : ""} ${className ?? ""}`}
      />
      <ul
        {...c.getMenuProps({ "aria-label": label, "aria-labelledby": undefined })}
        hidden={!shown}
        className={
          always
            ? "mt-2"
            : "absolute z-10 mt-1 max-h-72 w-full min-w-52 overflow-y-auto rounded border border-rule bg-sheet py-1 text-sm shadow-lg"
        }
      >
        {drawn &&
          items.map((item, index) => (
            <li
              key={item.key}
              {...c.getItemProps({ item, index })}
              className={`flex cursor-pointer items-center gap-2.5 ${always ? "rounded px-2.5 py-1.5" : "px-3 py-1"} ${index === c.highlightedIndex ? "bg-wash" : ""}`}
            >
              {item.mark}
              <span className={`truncate ${mono ? "font-mono" : ""}`}>{item.text}</span>
              {item.note && <span className="ml-auto max-w-[55%] truncate text-xs text-soft">{item.note}</span>}
            </li>
          ))}
        {shown && items.length === 0 && (
          <li role="option" aria-disabled aria-selected={false} className="px-3 py-1 text-soft">
            {none}
          </li>
        )}
      </ul>
    </div>
  );
}

/** Picker chooses one of many by a part of its name; free takes anything else that is typed, too. */
export function Picker({
  label,
  value,
  onChange,
  options,
  free,
  ...input
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  options: [string, string][];
  free?: boolean;
  placeholder?: string;
  required?: boolean;
  className?: string;
}) {
  const [typed, setTyped] = useState<string>();
  const now = options.find(([key]) => key === value)?.[1] ?? value;
  const words = (typed ?? "").toLowerCase();
  const items = options
    .filter(([, text]) => text.toLowerCase().includes(words))
    .map(([key, text]): Item => ({ key, text }));
  const take = (key: string) => {
    setTyped(undefined);
    onChange(key);
  };
  return (
    <Combobox
      label={label}
      text={typed ?? now}
      onText={(text) => {
        setTyped(text);
        if (free) onChange(text);
      }}
      items={items}
      onTake={(item) => take(item.key)}
      first={!free}
      none={free ? undefined : "nothing has that name"}
      onFocus={() => !free && setTyped("")}
      onBlur={() => {
        const exact = options.find(([, text]) => text.toLowerCase() === words.trim());
        if (typed !== undefined && exact) take(exact[0]);
        else setTyped(undefined);
      }}
      {...input}
      placeholder={now || input.placeholder}
    />
  );
}
