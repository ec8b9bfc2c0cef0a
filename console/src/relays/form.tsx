import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { targetsQueries } from "../targets/calls";
import { repositoriesQueries } from "../repositories/calls";
import { bytes, sizeOf } from "../ui/format";
import { AreaField, ChoiceField, FormDialog, TextField, TickField } from "../ui/form";
import { useQuery } from "../ui/parts";
import { relaysCalls } from "./calls";

const maturities: [string, string][] = [
  ["releases", "releases"],
  ["snapshots", "snapshots"],
  ["both", "both"],
];

/** RelayForm makes a relay, or changes one. */
export function RelayForm({
  relay: r,
  close,
  saved,
}: {
  relay?: Schemas["Relay"];
  close: () => void;
  saved: (r: Schemas["Relay"]) => unknown;
}) {
  const changed = useChanged();
  const repositories = useQuery(repositoriesQueries.repositories());
  const targets = useQuery(targetsQueries.targets());
  if (!repositories.data || !targets.data) return null;
  const sources = repositories.data.filter((one) => one.kind === "house").map((one) => one.name);
  const ways = targets.data.map((d): [string, string] => [d.name, `${d.name} (${d.ecosystem})`]);
  return (
    <FormDialog
      title={r ? `Change ${r.name}` : "New relay"}
      description="The target is tried before it is saved. What is there already with the same bytes is not sent again."
      start={{
        name: r?.name ?? "",
        from: r?.repository ?? sources[0] ?? "",
        to: r?.target ?? targets.data[0]?.name ?? "",
        only: r?.only.join("\n") ?? "",
        holds: r?.holds ?? "releases",
        schedule: r?.schedule ?? "17 * * * *",
        zone: r?.zone ?? "UTC",
        hours: r?.hours ?? "",
        rate: r?.bytesPerSecond ? bytes(r.bytesPerSecond) : "",
        now: false,
        removals: r?.removals ?? false,
        anyway: false,
      }}
      run={async (f) => {
        const bytesPerSecond = f.rate.trim() ? sizeOf(f.rate) : 0;
        if (Number.isNaN(bytesPerSecond)) throw new Error(`“${f.rate}” is no size; write it as 2 MiB.`);
        const { schedule, zone, anyway, removals } = f;
        const hours = f.hours.trim();
        const all = {
          only: f.only.split(/\s+/).filter(Boolean),
          schedule,
          zone,
          hours,
          bytesPerSecond,
          anyway,
          removals,
        };
        const holds = f.holds as Schemas["Relay"]["holds"];
        const made = await (r
          ? relaysCalls.edit(r.name, { ...all, holds, target: f.to })
          : relaysCalls.add({ ...all, holds, name: f.name, repository: f.from, target: f.to, fromNow: f.now }));
        await changed({ kind: "relay" });
        await saved(made);
      }}
      done={() => undefined}
      close={close}
      submit="Save"
    >
      {() => (
        <>
          {!r && <TextField name="name" label="Name" required autoFocus placeholder="mainland" />}
          <div className="grid gap-x-4 sm:grid-cols-2">
            {!r && <ChoiceField name="from" label="From" options={sources.map((name) => [name, name])} />}
            <ChoiceField name="to" label="To" options={ways} />
            <ChoiceField name="holds" label="What is sent" options={maturities} />
            <TextField name="rate" label="A second at most" placeholder="2 MiB" hint="Empty: no bound." />
            <TextField name="hours" label="Hours of the day" placeholder="20:00-06:00" hint="Empty: all of it." />
            <TextField name="zone" label="Time zone" required placeholder="Europe/Oslo" />
          </div>
          <AreaField
            name="only"
            label="Only"
            rows={2}
            hint="Patterns, one a line. Empty: everything of the target's ecosystem."
            placeholder="pkg:maven/example.skerry.berth/*"
          />
          <TextField
            name="schedule"
            label="It looks for what was missed"
            required
            hint="Minute, hour, day of the month, month and day of the week, as cron writes them."
          />
          <TickField name="removals">Remove there what is removed here, if that is another Crelvo</TickField>
          {!r && <TickField name="now">Do not send what is there already</TickField>}
          <TickField name="anyway">Save it also if the target is not reached now</TickField>
        </>
      )}
    </FormDialog>
  );
}
