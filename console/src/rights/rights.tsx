import { useQuery } from "@tanstack/react-query";
import { Bot, Globe, ShieldQuestion, User, Users } from "lucide-react";
import { useState } from "react";
import { type Schemas } from "../api/client";
import { repositoriesQueries } from "../repositories/calls";
import { type Action, rightsQueries } from "./calls";
import { asPurl } from "../ui/format";
import { Empty, ErrorNote, Loaded, Panel, usePageTitle } from "../ui/parts";
import { OneOf } from "../pointing/point";
import { CellDialog, type Cell } from "./grant";
import { Teams } from "./teams";
import { UserTable } from "./users";
import { Form, TextField, ChoiceField, PickField } from "../ui/form";

const roles = ["reader", "publisher", "promoter", "curator", "admin"];

/** fits matches a name with a pattern with *. */
function fits(pattern: string, name: string): boolean {
  return new RegExp(
    `^${pattern
      .split("*")
      .map((part) => part.replace(/[-.]/g, "\\$&"))
      .join(".*")}$`,
  ).test(name);
}

/** RightsPage is about who may do what. */
export default function RightsPage({ me }: { me: Schemas["Me"] }) {
  usePageTitle("Rights");
  const [shown, setShown] = useState("matrix");
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-4">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="text-2xl font-semibold tracking-tight">Rights</h1>
        <OneOf
          label="About"
          value={shown}
          onChange={setShown}
          options={[
            ["matrix", "Who may do what"],
            ["users", "Users and robots"],
            ["teams", "Teams"],
          ]}
        />
      </div>
      {shown === "matrix" && <Matrix />}
      {shown === "users" && <UserTable me={me} />}
      {shown === "teams" && <Teams me={me} />}
    </div>
  );
}

type Row = { holder: string; kind: string; note: string; through: string[] };

/** Matrix shows the highest role of everybody on every repository. */
function Matrix() {
  const grants = useQuery(rightsQueries.grants());
  const users = useQuery(rightsQueries.users());
  const teams = useQuery(rightsQueries.teams());
  const repositories = useQuery(repositoriesQueries.repositories());
  const [cell, setCell] = useState<Cell | null>(null);
  const rows: Row[] = [
    ...(teams.data ?? []).map((t) => ({
      holder: `team:${t.name}`,
      kind: "team",
      note: t.members.join(", ") || "nobody is in it",
      through: [],
    })),
    ...(users.data ?? []).map((u) => ({
      holder: u.name,
      kind: u.kind,
      note: u.blockedAt ? "blocked" : u.description,
      through: [...u.teams.map((t) => `team:${t}`), "signed-in", "anonymous"],
    })),
    { holder: "signed-in", kind: "everybody", note: "everybody who signs in", through: ["anonymous"] },
    { holder: "anonymous", kind: "everybody", note: "whoever asks", through: [] },
  ];
  return (
    <>
      <Panel
        title="Who may do what"
        aside={
          <span className="text-xs text-soft">
            choose a field to give or take away; <i>italic</i> is through a team or everybody, ◐ only some packages
          </span>
        }
      >
        <Loaded query={grants}>
          {(all) => (
            <Loaded query={repositories}>
              {(places) =>
                places.length === 0 ? (
                  <Empty title="No repositories yet">Rights are about repositories; make one first.</Empty>
                ) : (
                  <div className="relative max-h-[70vh] overflow-auto">
                    <table className="w-full border-separate border-spacing-0 text-left text-sm">
                      <thead>
                        <tr>
                          <th className="sticky top-0 left-0 z-10 border-r border-b border-rule bg-sheet px-3 py-2 text-xs font-medium text-soft">
                            who
                          </th>
                          {[...places.map((r) => r.name), "*"].map((name) => (
                            <th
                              key={name}
                              className="sticky top-0 border-b border-rule bg-sheet px-2 py-2 text-center text-xs font-medium whitespace-nowrap"
                            >
                              {name === "*" ? "everything" : name}
                            </th>
                          ))}
                        </tr>
                      </thead>
                      <tbody>
                        {rows.map((row) => (
                          <tr key={row.holder} className="hover:bg-wash/40">
                            <th
                              scope="row"
                              className="sticky left-0 max-w-52 border-r border-b border-rule bg-sheet px-3 py-1.5 text-left font-medium"
                            >
                              <span className="flex items-center gap-1.5">
                                <KindIcon kind={row.kind} />{" "}
                                <span className="truncate">{row.holder.replace(/^team:/, "")}</span>
                              </span>
                              <span className="block truncate text-xs font-normal text-soft" title={row.note}>
                                {row.note}
                              </span>
                            </th>
                            {[...places.map((r) => r.name), "*"].map((name) => (
                              <MatrixField
                                key={name}
                                row={row}
                                place={name}
                                open={places.some((r) => r.name === name && r.anonymousRead)}
                                all={all}
                                choose={() => setCell({ holder: row.holder, place: name })}
                              />
                            ))}
                          </tr>
                        ))}
                      </tbody>
                    </table>
                  </div>
                )
              }
            </Loaded>
          )}
        </Loaded>
      </Panel>
      {repositories.data && users.data && teams.data && (
        <Ask names={rows.map((r) => r.holder)} places={repositories.data.map((r) => r.name)} />
      )}
      {cell && (
        <CellDialog
          cell={cell}
          grants={(grants.data ?? []).filter(
            (g) => g.holder === cell.holder && (g.repositories === cell.place || fits(g.repositories, cell.place)),
          )}
          close={() => setCell(null)}
        />
      )}
    </>
  );
}

function KindIcon({ kind }: { kind: string }) {
  const Icon = { team: Users, user: User, robot: Bot, everybody: Globe }[kind] ?? User;
  return <Icon size={14} className="shrink-0 text-soft" aria-label={kind} />;
}

/** MatrixField is what one of the rows may do in one place. */
function MatrixField({
  row,
  place,
  open,
  all,
  choose,
}: {
  row: Row;
  place: string;
  open: boolean;
  all: Schemas["Grant"][];
  choose: () => void;
}) {
  const reaching = all.filter(
    (g) =>
      (g.holder === row.holder || row.through.includes(g.holder)) &&
      (g.repositories === place || fits(g.repositories, place)),
  );
  const best = (grants: Schemas["Grant"][]) => Math.max(-1, ...grants.map((g) => roles.indexOf(g.role)));
  const whole = best(reaching.filter((g) => !g.packages));
  const some = best(reaching.filter((g) => g.packages));
  const readable = open && row.kind !== "team" ? 0 : -1;
  const top = Math.max(whole, some, readable);
  const own = best(reaching.filter((g) => g.holder === row.holder)) === top;
  const says = reaching.map(
    (g) =>
      `${g.holder === row.holder ? "" : `${g.holder}: `}${g.role} on ${g.repositories}${g.packages ? ` for ${g.packages}` : ""}`,
  );
  if (open) says.push("anybody may read it");
  const looks = ["text-soft", "text-ink", "text-ink", "text-deep", "text-deep font-semibold"];
  return (
    <td className="border-b border-rule p-0 text-center">
      <button
        type="button"
        onClick={choose}
        title={says.join("\n") || "nothing"}
        aria-label={`${row.holder} on ${place === "*" ? "everything" : place}: ${top < 0 ? "nothing" : roles[top]}`}
        className={`h-11 w-full min-w-20 cursor-pointer px-1 text-xs hover:bg-wash ${top < 0 ? "text-rule" : looks[top]} ${top >= 0 && !own ? "italic" : ""}`}
      >
        {top < 0 ? (
          "·"
        ) : (
          <>
            {roles[top]}
            {some > whole && some >= readable && <span aria-hidden> ◐</span>}
          </>
        )}
      </button>
    </td>
  );
}

const actions: [string, string][] = [
  ["read", "read"],
  ["publish", "publish to"],
  ["promote", "promote into"],
  ["remove", "remove from"],
  ["manage", "manage"],
];

/** Ask asks whether somebody may do something, and why. */
function Ask({ names, places }: { names: string[]; places: string[] }) {
  const [asked, setAsked] = useState<{ who: string; action: string; place: string; purl: string } | null>(null);
  const query = useQuery({
    ...rightsQueries.check(
      asked?.place ?? "",
      asked?.who ?? "",
      (asked?.action ?? "read") as Action,
      asPurl(asked?.purl ?? "") || undefined,
    ),
    enabled: asked !== null,
    retry: false,
  });
  return (
    <Panel title="May they?">
      <Form
        className="flex flex-wrap items-end gap-x-3 p-4 pb-1 [&>div:last-child]:mb-3"
        start={{ who: names[0] ?? "", action: "publish", place: places[0] ?? "", purl: "" }}
        run={(question) => Promise.resolve(setAsked(question))}
        ready={({ who, place }) => who !== "" && place !== ""}
        submit={
          <>
            <ShieldQuestion size={15} /> Ask
          </>
        }
      >
        <div className="w-44">
          <PickField name="who" label="Who" options={names.map((n) => [n, n])} />
        </div>
        <div className="w-36">
          <ChoiceField name="action" label="may" options={actions} />
        </div>
        <div className="w-44">
          <PickField name="place" label="which repository" options={places.map((n) => [n, n])} />
        </div>
        <div className="min-w-56 grow">
          <TextField name="purl" label="with which package, if it matters" placeholder="pkg:npm/@skerry/deck-ui" />
        </div>
      </Form>
      {asked && (
        <div className="px-4 pb-4 text-sm">
          {query.error ? (
            <ErrorNote error={query.error} />
          ) : (
            query.data && (
              <p
                role="status"
                className={`rounded px-3 py-2 ${query.data.allowed ? "bg-wash text-ink" : "bg-bad-wash text-bad"}`}
              >
                {query.data.sentence}
              </p>
            )
          )}
        </div>
      )}
    </Panel>
  );
}
