import { Plus } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { quotaCalls, quotaQueries } from "./calls";
import { Confirm, Dialog } from "../ui/dialog";
import { bytes, count, packagePath, sizeOf } from "../ui/format";
import { FormDialog, TextField } from "../ui/form";
import { Button, Loaded, Panel, Time, useQuery } from "../ui/parts";
import { type Column, Table } from "../ui/table";

type Quota = Schemas["Quota"];

const looks: Record<Quota["state"], [colour: string, word: string]> = {
  within: ["bg-good", "within"],
  warned: ["bg-glow", "past the soft bound"],
  full: ["bg-bad", "full"],
};

const most = (q: Quota) => q.hard ?? q.soft ?? 1;

/** Quotas shows how much may be used, and how much is; admins change it. */
export function Quotas({ admin }: { admin: boolean }) {
  const query = useQuery(quotaQueries.quotas());
  const changed = useChanged();
  const [asked, setAsked] = useState<{ what: "show" | "set" | "remove"; quota?: Quota }>();
  const close = () => setAsked(undefined);
  const told = () => changed({ kind: "quota" });
  if (!admin && !query.data?.length) return null;
  const columns: Column<Quota>[] = [
    {
      head: "Of",
      by: (q) => q.about,
      cell: (q) => (
        <>
          {q.kind === "repository" ? (
            <Link to={`/repositories/${q.name}`}>{q.name}</Link>
          ) : (
            <>
              <span className="text-soft">the {q.kind}</span> {q.name}
            </>
          )}
          {q.repositories && <span className="block text-xs text-soft">{q.repositories.join(", ")}</span>}
        </>
      ),
    },
    { head: "Used", right: true, by: (q) => q.used, cell: (q) => bytes(q.used) },
    { head: "Soft", right: true, from: "sm", by: (q) => q.soft ?? 0, cell: (q) => (q.soft ? bytes(q.soft) : "") },
    { head: "Hard", right: true, by: (q) => q.hard ?? 0, cell: (q) => (q.hard ? bytes(q.hard) : "") },
    {
      head: "How full",
      by: (q) => q.used / most(q),
      cell: (q) => (
        <span className="flex items-center gap-2 whitespace-nowrap">
          <span aria-hidden className="h-2 w-24 overflow-hidden rounded bg-wash">
            <span
              className={`block h-full ${looks[q.state][0]}`}
              style={{ width: `${Math.min(100, (100 * q.used) / most(q))}%` }}
            />
          </span>
          {Math.floor((100 * q.used) / most(q))} %, {looks[q.state][1]}
        </span>
      ),
    },
    {
      head: "More",
      right: true,
      cell: (q) => (
        <span className="inline-flex flex-wrap justify-end gap-2">
          <Button onClick={() => setAsked({ what: "show", quota: q })}>What for…</Button>
          {admin && <Button onClick={() => setAsked({ what: "set", quota: q })}>Change…</Button>}
          {admin && <Button onClick={() => setAsked({ what: "remove", quota: q })}>Take away…</Button>}
        </span>
      ),
    },
  ];
  return (
    <Panel
      title="Quotas"
      aside={
        admin && (
          <Button onClick={() => setAsked({ what: "set" })}>
            <Plus size={15} /> New quota
          </Button>
        )
      }
    >
      <Loaded query={query}>
        {(all) =>
          all.length === 0 ? (
            <p className="px-4 py-3 text-sm text-soft">Everything may use as much as there is room for.</p>
          ) : (
            <Table name="Quotas" dense rows={all} rowKey={(q) => q.about} columns={columns} />
          )
        }
      </Loaded>
      {asked?.what === "set" && <SetQuota quota={asked.quota} close={close} done={told} />}
      {asked?.what === "show" && <UsedFor quota={asked.quota!} close={close} />}
      {asked?.what === "remove" && (
        <Confirm
          title={`Take the quota of ${asked.quota!.about} away?`}
          text="From then on it may use as much as there is room for."
          what="Take it away"
          run={() => quotaCalls.remove(asked.quota!.about).then(told)}
          close={close}
        />
      )}
    </Panel>
  );
}

/** boundOf reads a bound; an empty one is none. */
function boundOf(text: string) {
  const size = text.trim() ? sizeOf(text) : 0;
  if (Number.isNaN(size)) throw new Error(`“${text}” is no size; write it as 500 MiB or 2 GiB.`);
  return size;
}

function SetQuota({ quota, close, done }: { quota?: Quota; close: () => void; done: () => unknown }) {
  return (
    <FormDialog
      title={quota ? `Change the quota of ${quota.about}` : "New quota"}
      description="From the soft bound on it is told here, on the status page and in the activity record. What goes beyond the hard bound is refused; mirrors drop what was not asked for for longest instead."
      start={{
        about: quota?.about ?? "",
        soft: quota?.soft ? bytes(quota.soft) : "",
        hard: quota?.hard ? bytes(quota.hard) : "",
      }}
      run={async (f) => quotaCalls.set(f.about.trim(), { soft: boundOf(f.soft), hard: boundOf(f.hard) })}
      done={done}
      close={close}
      submit="Save"
    >
      {() => (
        <>
          {!quota && (
            <TextField
              name="about"
              label="Of"
              required
              autoFocus
              placeholder="snapshots"
              hint="A repository, team:NAME (what that team is an admin of) or store:NAME."
            />
          )}
          <div className="grid gap-x-4 sm:grid-cols-2">
            <TextField name="soft" label="Soft bound" placeholder="80 GiB" hint="Empty: none." />
            <TextField name="hard" label="Hard bound" placeholder="100 GiB" hint="Empty: none." />
          </div>
        </>
      )}
    </FormDialog>
  );
}

function UsedFor({ quota, close }: { quota: Quota; close: () => void }) {
  const query = useQuery(quotaQueries.quota(quota.about));
  return (
    <Dialog open onOpenChange={(open) => open || close()} title={`What ${quota.about} is used for`}>
      <Loaded query={query}>
        {(q) => (
          <div className="grid gap-3 text-sm">
            <p>
              {bytes(q.used)} are used, as counted <Time at={q.asOf} />.
            </p>
            {q.most.length > 0 && (
              <ul>
                {q.most.map((m) => (
                  <li key={m.repository + m.purl} className="flex gap-3 border-b border-rule py-1 last:border-0">
                    <Link to={packagePath(m.purl)} className="wrap-anywhere">
                      {m.purl}
                    </Link>
                    <span className="text-soft">{m.repository}</span>
                    <span className="ml-auto whitespace-nowrap">{bytes(m.bytes)}</span>
                  </li>
                ))}
              </ul>
            )}
            {q.sweeps.map((s) => (
              <p key={s.policy}>
                A sweep by <Link to={`/policies/${s.policy}`}>{s.policy}</Link> would take out{" "}
                {count(s.versions, "version")} and free {bytes(s.bytes)}.
              </p>
            ))}
          </div>
        )}
      </Loaded>
    </Dialog>
  );
}
