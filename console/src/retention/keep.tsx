import { useChanged } from "../api/query";
import { useMutation, useQuery } from "@tanstack/react-query";
import { Pin } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { retentionCalls, retentionQueries } from "./calls";
import { usedQueries } from "../use/calls";
import { buildPath, moment } from "../ui/format";
import { Button, ErrorNote, Loaded, Panel, Time } from "../ui/parts";
import { FormDialog, TextField, WhenField } from "../ui/form";

/** Keep pins a version, and tells who still uses it. */
export function Keep({ purl, repository }: { purl: string; repository: string }) {
  const changed = useChanged();
  const [pinning, setPinning] = useState(false);
  const [asked, setAsked] = useState(false);
  const pins = useQuery(retentionQueries.pins());
  const pin = pins.data?.find((p) => p.purl === purl && p.repository === repository);
  const off = useMutation({
    mutationFn: () => retentionCalls.setPin({ purl, repository, off: true }),
    onSuccess: () => changed({ kind: "pin" }),
  });
  return (
    <Panel
      title="Who still uses it"
      aside={
        <span className="flex flex-wrap items-center gap-2 text-sm">
          {pin ? (
            <Button onClick={() => off.mutate()}>Take the pin off</Button>
          ) : (
            <Button onClick={() => setPinning(true)}>
              <Pin size={14} aria-hidden /> Pin…
            </Button>
          )}
          <Button aria-expanded={asked} onClick={() => setAsked(!asked)}>
            {asked ? "Fold" : "Show"}
          </Button>
        </span>
      }
    >
      {off.error && (
        <div className="p-4">
          <ErrorNote error={off.error} />
        </div>
      )}
      {pin && (
        <p role="note" className="px-4 py-2 text-sm">
          <Pin size={14} className="mr-1.5 inline text-deep" aria-hidden />
          Pinned by {pin.by}
          {pin.until && ` until ${moment(pin.until)}`}: {pin.reason}. No sweep takes it.
        </p>
      )}
      {asked && <Users purl={purl} repository={repository} />}
      {pinning && <PinDialog close={() => setPinning(false)} purl={purl} repository={repository} />}
    </Panel>
  );
}

function Users({ purl, repository }: { purl: string; repository: string }) {
  const query = useQuery(usedQueries.whoUses(purl, repository));
  return (
    <Loaded query={query}>
      {(who) =>
        who.users.length + who.builds.length + who.needs.length === 0 ? (
          <p className="px-4 py-3 text-sm text-soft">
            Nobody that signed in downloaded it, no recorded build used it, and nothing here needs it.
          </p>
        ) : (
          <dl className="grid grid-cols-[7rem_1fr] gap-y-1 px-4 py-3 text-sm">
            <dt className="text-soft">Downloaded by</dt>
            <dd>
              {who.users.length === 0 && <span className="text-soft">nobody that signed in</span>}
              <ul>
                {who.users.map((u) => (
                  <li key={u.name}>
                    {u.name}
                    {u.kind === "robot" && <span className="text-soft"> (robot)</span>}, <Time at={u.lastAt} />
                    {u.clients.length > 0 && <span className="text-soft"> with {u.clients.join(", ")}</span>}
                  </li>
                ))}
              </ul>
            </dd>
            {who.builds.length > 0 && (
              <>
                <dt className="text-soft">Builds</dt>
                <dd className="flex flex-wrap gap-x-3">
                  {who.builds.map((b) => (
                    <Link key={b} to={buildPath(b)}>
                      {b}
                    </Link>
                  ))}
                </dd>
              </>
            )}
            {who.needs.length > 0 && (
              <>
                <dt className="text-soft">Needed by</dt>
                <dd>
                  <ul>
                    {who.needs.map((n) => (
                      <li key={n.purl}>
                        {decodeURIComponent(n.purl.replace(/^pkg:/, ""))}{" "}
                        <span className="text-soft">
                          ({n.wants}
                          {n.via && `, by way of ${decodeURIComponent(n.via.replace(/^pkg:/, ""))}`})
                        </span>
                      </li>
                    ))}
                  </ul>
                </dd>
              </>
            )}
          </dl>
        )
      }
    </Loaded>
  );
}

function PinDialog({ close, purl, repository }: { close: () => void; purl: string; repository: string }) {
  const changed = useChanged();
  return (
    <FormDialog
      title="Pin this version"
      description="No sweep takes it, whatever the policies say."
      start={{ reason: "", until: "" }}
      run={({ reason, until }) => retentionCalls.setPin({ purl, repository, reason, until: until || undefined })}
      done={() => changed({ kind: "pin" })}
      close={close}
      ready={({ reason }) => reason.trim() !== ""}
      submit="Pin it"
    >
      <TextField name="reason" label="Why must it stay?" autoFocus />
      <WhenField name="until" label="Until" none="for good" later />
    </FormDialog>
  );
}
