import { DayPicker } from "react-day-picker";

const dayButton =
  "size-8 cursor-pointer rounded hover:bg-wash disabled:cursor-default disabled:opacity-30 disabled:hover:bg-transparent";

/** Calendar chooses a day of the past, of the future with later, or of any time. */
export default function Calendar({
  day,
  onDay,
  later,
  any,
}: {
  day: Date | undefined;
  onDay: (day: Date) => void;
  later?: boolean;
  any?: boolean;
}) {
  const today = new Date();
  return (
    <DayPicker
      mode="single"
      required
      autoFocus
      weekStartsOn={1}
      showOutsideDays
      captionLayout="dropdown"
      startMonth={later ? today : new Date(2000, 0)}
      endMonth={later || any ? new Date(today.getFullYear() + 20, 11) : today}
      disabled={any ? undefined : later ? { before: today } : { after: today }}
      defaultMonth={day}
      selected={day}
      onSelect={onDay}
      classNames={{
        months: "relative",
        nav: "absolute inset-x-0 flex justify-between",
        button_previous: "grid size-7 cursor-pointer place-items-center rounded hover:bg-wash",
        button_next: "grid size-7 cursor-pointer place-items-center rounded hover:bg-wash",
        chevron: "size-4 fill-current text-soft",
        month_caption: "mb-1 flex h-7 items-center justify-center",
        dropdowns: "flex gap-1 font-medium",
        dropdown_root: "relative rounded px-1 hover:bg-wash",
        dropdown: "absolute inset-0 cursor-pointer opacity-0",
        caption_label: "inline-flex items-center gap-0.5",
        month_grid: "border-collapse",
        weekday: "size-8 text-xs font-normal text-soft",
        day: "p-0 text-center tabular-nums",
        day_button: dayButton,
        selected: "rounded bg-deep text-deep-ink [&>button]:hover:bg-deep",
        today: "font-semibold",
        outside: "text-soft",
      }}
    />
  );
}
