import { CalendarClock } from "lucide-react";
import { Popover } from "radix-ui";
import { lazy, Suspense, useState } from "react";
import { moment } from "./format";
import { Button } from "./parts";

const Calendar = lazy(() => import("./calendar"));

/** clock is the time of day, as a field for times has it. */
function clock(at: Date): string {
  return `${String(at.getHours()).padStart(2, "0")}:${String(at.getMinutes()).padStart(2, "0")}`;
}

/** zone is what times here are in. */
const zone =
  new Intl.DateTimeFormat("en-GB", { timeZoneName: "short" })
    .formatToParts(new Date())
    .find((p) => p.type === "timeZoneName")?.value ?? "";

/**
 * When chooses a day and a time of it, in the zone of whoever chooses, as a
 * moment in UTC: of the past, of the future with later, or of any time.
 */
export function When({
  label,
  value,
  onChange,
  none,
  later,
  any,
  quick = [],
}: {
  label: string;
  value: string;
  onChange: (value: string) => void;
  /** none is what is said where nothing is chosen. */
  none: string;
  later?: boolean;
  any?: boolean;
  /** quick are moments that one often wants, by what they are called. */
  quick?: [string, () => Date][];
}) {
  const [open, setOpen] = useState(false);
  const [day, setDay] = useState<Date>();
  const [time, setTime] = useState("00:00");
  const begin = (to: boolean) => {
    if (to) {
      const at = value ? new Date(value) : new Date();
      setDay(at);
      setTime(value ? clock(at) : "00:00");
    }
    setOpen(to);
  };
  const take = (at: string) => {
    setOpen(false);
    onChange(at);
  };
  const chosen = () => {
    const [hours = 0, minutes = 0] = time.split(":").map(Number);
    return new Date(day!.getFullYear(), day!.getMonth(), day!.getDate(), hours, minutes);
  };
  const outside = day && !any && (later ? chosen() <= new Date() : chosen() > new Date());
  return (
    <Popover.Root open={open} onOpenChange={begin}>
      <Popover.Trigger asChild>
        <Button aria-label={`${label}: ${value ? moment(value) : none}`}>
          <CalendarClock size={14} aria-hidden /> {value ? moment(value) : none}
        </Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="start"
          sideOffset={4}
          aria-label={label}
          className="z-40 rounded-lg border border-rule bg-sheet p-3 text-sm shadow-lg"
        >
          {quick.length > 0 && (
            <div className="mb-2 flex max-w-64 flex-wrap gap-1">
              {quick.map(([text, at]) => (
                <Button key={text} look="bare" onClick={() => take(at().toISOString())}>
                  {text}
                </Button>
              ))}
            </div>
          )}
          <Suspense fallback={<div className="h-64 w-64" aria-busy="true" />}>
            <Calendar day={day} onDay={setDay} later={later} any={any} />
          </Suspense>
          <form
            className="mt-2 flex items-center gap-2 border-t border-rule pt-2"
            onSubmit={(e) => {
              e.preventDefault();
              e.stopPropagation(); // it may stand in another form
              take(chosen().toISOString());
            }}
          >
            <input
              type="time"
              aria-label="Time of day"
              required
              className="h-8 rounded border border-rule bg-paper px-1.5"
              value={time}
              onChange={(e) => setTime(e.target.value)}
            />
            <span className="text-xs text-soft">{zone}</span>
            <span className="ml-auto flex gap-1">
              {value && (
                <Button look="bare" onClick={() => take("")}>
                  {none.charAt(0).toUpperCase() + none.slice(1)}
                </Button>
              )}
              <Button
                type="submit"
                look="strong"
                disabled={!day || outside}
                title={outside ? (later ? "It has passed already" : "It has not come yet") : undefined}
              >
                Take it
              </Button>
            </span>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
