import { keepPreviousData } from "@tanstack/react-query";
import { Combobox } from "../ui/combobox";
import { useQuery } from "../ui/parts";
import { searchQueries } from "./calls";

/** QueryInput is where a query is typed; it proposes keys and values for the last term. */
export function QueryInput({ value, onChange }: { value: string; onChange: (value: string) => void }) {
  const query = useQuery({
    ...searchQueries.completions(value),
    enabled: value !== "",
    placeholderData: keepPreviousData,
  });
  // What was proposed for fewer letters is shown as long as it fits what has been typed since, so that an
  // arrow key means what is seen.
  const term = value.slice(value.search(/[^\s,]*$/)).toLowerCase();
  const all = (value === "" ? [] : (query.data ?? [])).filter(
    (c) => !query.isPlaceholderData || c.text.toLowerCase().startsWith(term),
  );
  return (
    <div className="max-w-3xl">
      <Combobox
        autoFocus
        mono
        goesOn
        label="Search"
        placeholder="berth repo:releases age:>30d"
        text={value}
        onText={onChange}
        items={all.map((c) => ({ key: c.text, text: c.text, note: c.means }))}
        onTake={(c) => {
          const last = value.search(/[^\s,]*$/);
          onChange(value.slice(0, last) + c.text + (c.text.endsWith(":") ? "" : " "));
        }}
      />
    </div>
  );
}
