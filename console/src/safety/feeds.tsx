import { FileUp, Plus } from "lucide-react";
import { useMutation } from "@tanstack/react-query";
import { useRef, useState } from "react";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { safetyCalls, safetyQueries } from "./calls";
import { Confirm } from "../ui/dialog";
import { count, seconds } from "../ui/format";
import { ChoiceField, FormDialog, TextField } from "../ui/form";
import { Button, ErrorNote, Loaded, Panel, Time, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";

/** said tells what reading a feed or a file did. */
function said(r: Schemas["FeedReport"]) {
  const parts = [`${r.added} new, ${r.changed} changed of ${count(r.read, "record")}`];
  if (r.foreign) parts.push(`${r.foreign} about no ecosystem that is known here`);
  if (r.failed) parts.push(`${r.failed} cannot be used`);
  return parts.join("; ");
}

/** Feeds shows where advisories come from. */
export function Feeds() {
  const query = useQuery({
    ...safetyQueries.feeds(),
    refetchInterval: (q) => (q.state.data?.some((f) => f.running) ? 1_000 : false),
  });
  const changed = useChanged();
  const [adding, setAdding] = useState(false);
  const [removing, setRemoving] = useState<Schemas["Feed"]>();
  const file = useRef<HTMLInputElement>(null);
  const told = () => changed({ kind: "feed" });
  const run = useMutation({ mutationFn: safetyCalls.runFeed, onSuccess: told });
  const taken = useMutation({
    mutationFn: safetyCalls.importFile,
    onSuccess: () => changed({ kind: "advisory" }),
  });
  const columns: Column<Schemas["Feed"]>[] = [
    {
      head: "Feed",
      by: (f) => f.name,
      cell: (f) => (
        <>
          <span className="font-medium">{f.name}</span>
          <span className="block text-xs text-soft wrap-anywhere">{f.location}</span>
        </>
      ),
    },
    { head: "Every", from: "sm", by: (f) => f.everySeconds, cell: (f) => seconds(f.everySeconds) },
    {
      head: "Read",
      by: (f) => f.begunAt ?? "",
      cell: (f) => (f.begunAt ? <Time at={f.begunAt} /> : <span className="text-soft">not yet</span>),
    },
    {
      head: "State",
      look: "max-w-96",
      cell: (f) => (
        <>
          {f.running ? "is being read" : f.failure ? <span className="text-bad">{f.failure}</span> : said(f.report)}
          {f.report.faults?.map((fault) => (
            <span key={fault} className="block text-xs text-soft wrap-anywhere">
              {fault}
            </span>
          ))}
        </>
      ),
    },
    {
      head: "Do",
      right: true,
      cell: (f) => (
        <span className="inline-flex flex-wrap justify-end gap-2">
          <Button disabled={f.running || run.isPending} onClick={() => run.mutate(f.name)}>
            Read now
          </Button>
          <Button onClick={() => setRemoving(f)}>Remove…</Button>
        </span>
      ),
    },
  ];
  return (
    <Panel
      title="Where advisories come from"
      aside={
        <span className="flex flex-wrap gap-2">
          <input
            ref={file}
            type="file"
            className="hidden"
            aria-label="A file with advisories"
            onChange={(e) => {
              const chosen = e.target.files?.[0];
              if (chosen) taken.mutate(chosen);
              e.target.value = "";
            }}
          />
          <Button onClick={() => file.current?.click()} disabled={taken.isPending}>
            <FileUp size={15} /> Take from a file
          </Button>
          <Button onClick={() => setAdding(true)}>
            <Plus size={15} /> New feed
          </Button>
        </span>
      }
    >
      {(taken.error ?? run.error) && <ErrorNote error={taken.error ?? run.error} />}
      {taken.data && (
        <p role="status" className="border-b border-rule px-4 py-2 text-sm">
          {taken.variables?.name}: {said(taken.data)}.
        </p>
      )}
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <p className="px-4 py-3 text-sm text-soft">
              Nothing brings advisories. Add a feed in the OSV format: a folder, an archive or an address.
            </p>
          ) : (
            <Table name="Feeds" dense rows={all} rowKey={(f) => f.name} columns={columns} />
          )
        }
      </Loaded>
      {adding && (
        <FormDialog
          title="New feed"
          description="It is read at once, and then again and again; what is new is fetched on its own."
          start={{ name: "", location: "", every: "3600" }}
          run={(f) =>
            safetyCalls.addFeed({ name: f.name.trim(), location: f.location.trim(), everySeconds: Number(f.every) })
          }
          done={told}
          close={() => setAdding(false)}
          submit="Add it"
        >
          {() => (
            <>
              <TextField name="name" label="Name" required autoFocus placeholder="openshore" />
              <TextField
                name="location"
                label="Where it is"
                required
                placeholder="https://advisories.openshore.example"
                hint="An address with the layout in which OSV publishes, or the whole path of a folder or zip archive on the server."
              />
              <ChoiceField
                name="every"
                label="Read it"
                options={[
                  ["600", "every 10 minutes"],
                  ["3600", "every hour"],
                  ["21600", "every 6 hours"],
                  ["86400", "every day"],
                ]}
              />
            </>
          )}
        </FormDialog>
      )}
      {removing && (
        <Confirm
          title={`Remove the feed ${removing.name}?`}
          text="The advisories that it brought stay, and are not brought up to date any more."
          what="Remove it"
          run={() => safetyCalls.removeFeed(removing.name).then(told)}
          close={() => setRemoving(undefined)}
        />
      )}
    </Panel>
  );
}
