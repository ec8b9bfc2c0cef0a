import { keepPreviousData } from "@tanstack/react-query";
import { Flag, FlagOff } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { type Schemas } from "../api/client";
import { useChanged } from "../api/query";
import { repositoriesCalls, repositoriesQueries } from "./calls";
import { rightsQueries } from "../rights/calls";
import { TextInput } from "../ui/dialog";
import { count, packagePath } from "../ui/format";
import { Button, Empty, Loaded, Panel, rowKeys, Time, useQuery } from "../ui/parts";
import { FormDialog, TextField } from "../ui/form";

/** Claims are the names that no mirror behind a chain answers for. */
export function Claims({ repository: r }: { repository: Schemas["Repository"] }) {
  const [words, setWords] = useState("");
  const [change, setChange] = useState<{ pattern: string; lift: boolean } | null>(null);
  const claims = useQuery(repositoriesQueries.claims());
  const names = useQuery({
    ...repositoriesQueries.claimedNames(r.name, words),
    placeholderData: keepPreviousData,
  });
  const admin = useQuery(rightsQueries.me()).data?.admin;
  const lifted = new Set(claims.data?.filter((c) => c.lifted).map((c) => c.pattern));
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-5 lg:grid-cols-[repeat(2,minmax(0,1fr))]">
      <Panel
        title="Claimed by pattern"
        aside={
          admin && (
            <Button onClick={() => setChange({ pattern: "", lift: false })}>
              <Flag size={15} /> Claim names
            </Button>
          )
        }
      >
        <Loaded query={claims}>
          {(all) =>
            all.length === 0 ? (
              <Empty title="Nothing is claimed by pattern">
                Claim the names of your group before anything of it is published, and no stranger can take them.
              </Empty>
            ) : (
              <ul>
                {all.map((c) => (
                  <li key={c.pattern} className="flex items-start gap-3 border-b border-rule px-4 py-2.5 last:border-0">
                    {c.lifted ? (
                      <FlagOff size={16} className="mt-0.5 shrink-0 text-glow" aria-hidden />
                    ) : (
                      <Flag size={16} className="mt-0.5 shrink-0 text-deep" aria-hidden />
                    )}
                    <div className="min-w-0 grow">
                      <p className="font-mono text-sm wrap-anywhere">{c.pattern}</p>
                      <p className="text-xs text-soft">
                        {c.lifted ? "lifted" : "claimed"} by {c.by} <Time at={c.at} />: {c.reason}
                      </p>
                    </div>
                    {admin && (
                      <Button look="bare" onClick={() => setChange({ pattern: c.pattern, lift: !c.lifted })}>
                        {c.lifted ? "Claim again" : "Lift"}
                      </Button>
                    )}
                  </li>
                ))}
              </ul>
            )
          }
        </Loaded>
      </Panel>
      <Panel
        title="Claimed since published"
        aside={
          <div className="w-48">
            <TextInput
              aria-label="Part of the name"
              placeholder="Part of the name"
              value={words}
              onChange={(e) => setWords(e.target.value)}
            />
          </div>
        }
      >
        <Loaded query={names}>
          {({ names: all, total }) =>
            all.length === 0 ? (
              <Empty title={words ? "No published name has that in it" : "No house member has published anything"}>
                A name is claimed from its first publication on.
              </Empty>
            ) : (
              <>
                <ul onKeyDown={rowKeys} className="max-h-[60vh] overflow-y-auto">
                  {all.map((n) => (
                    <li key={n.purl} className="flex items-center gap-3 border-b border-rule px-4 py-2 last:border-0">
                      <div className="min-w-0 grow">
                        <Link data-row to={packagePath(n.purl)} className="font-mono text-sm wrap-anywhere">
                          {n.purl.replace(/^pkg:/, "")}
                        </Link>
                        <p className="text-xs text-soft">
                          in {n.in.join(" and ")}, since <Time at={n.since} />
                        </p>
                      </div>
                      {lifted.has(n.purl) ? (
                        <span className="text-xs text-glow">lifted</span>
                      ) : (
                        admin && (
                          <Button look="bare" onClick={() => setChange({ pattern: n.purl, lift: true })}>
                            Lift
                          </Button>
                        )
                      )}
                    </li>
                  ))}
                </ul>
                <p className="border-t border-rule px-4 py-2 text-xs text-soft">
                  {count(total, "name")}
                  {total > all.length && `, the first ${all.length} are shown`}
                </p>
              </>
            )
          }
        </Loaded>
      </Panel>
      {change && <Change key={change.pattern + change.lift} {...change} close={() => setChange(null)} />}
    </div>
  );
}

function Change({ pattern, lift, close }: { pattern: string; lift: boolean; close: () => void }) {
  const changed = useChanged();
  return (
    <FormDialog
      title={lift ? "Lift a claim" : "Claim names"}
      description={
        lift
          ? "Mirrors may answer for these names again, in every chain."
          : "No mirror behind a chain answers for these names any more."
      }
      start={{ pattern, reason: "" }}
      run={lift ? repositoriesCalls.liftClaim : repositoriesCalls.addClaim}
      done={() => changed({ kind: "repository" })}
      close={close}
      submit={lift ? "Lift it" : "Claim them"}
    >
      <TextField
        name="pattern"
        label="Pattern"
        hint="* stands for any run of characters."
        required
        readOnly={pattern !== ""}
        placeholder="pkg:maven/example.skerry.*/*"
      />
      <TextField name="reason" label="Reason" hint="Others will read it later." required autoFocus={pattern !== ""} />
    </FormDialog>
  );
}
