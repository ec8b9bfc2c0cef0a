import { useQuery } from "@tanstack/react-query";
import { ArrowRight, Circle, CircleCheck } from "lucide-react";
import { useState, type ReactNode } from "react";
import { Link, useLocation } from "react-router";
import { type Schemas } from "../api/client";
import { repositoriesQueries } from "../repositories/calls";
import { rightsQueries } from "./calls";
import { Button, Panel } from "../ui/parts";

const kept = "first-steps-put-away";

/** FirstSteps leads an admin through the first minutes; each step ticks itself off when it has happened. */
export function FirstSteps({
  me,
  changePassword,
  addRepository,
}: {
  me: Schemas["Me"];
  changePassword: () => void;
  addRepository: () => void;
}) {
  const [away, setAway] = useState(localStorage.getItem(kept) === me.name);
  const query = useQuery({
    ...rightsQueries.firstSteps(),
    enabled: !away,
    refetchInterval: 5000,
  });
  const repositories = useQuery(repositoriesQueries.repositories());
  if (away || !query.data) return null;
  const done = query.data;
  const chain =
    repositories.data?.find((r) => r.kind === "chain") ?? repositories.data?.find((r) => r.kind === "house");
  const steps: { title: string; done: boolean; say: ReactNode; act: ReactNode }[] = [
    {
      title: "Set your password",
      done: !me.changePassword,
      say: "The first one was made for you, and stands in a file.",
      act: <Button onClick={changePassword}>Set it</Button>,
    },
    {
      title: "Add an upstream",
      done: done.mirror,
      say: "A mirror copies public packages when they are first used, and keeps them.",
      act: <Button onClick={addRepository}>Make a mirror</Button>,
    },
    {
      title: "Point a client",
      done: done.client,
      say: "The text for your build tool, with a token in it, or one command that writes it.",
      act: chain ? (
        <Link className="text-sm" to={`/repositories/${chain.name}/use`}>
          Use {chain.name}
        </Link>
      ) : (
        <span className="text-sm text-soft">when there is a repository</span>
      ),
    },
    {
      title: "Publish something",
      done: done.published,
      say: "From the build tool, or by hand: crelvo publish FILE --to REPOSITORY.",
      act: chain ? (
        <Link className="text-sm" to={`/repositories/${chain.name}/use`}>
          How
        </Link>
      ) : (
        <span className="text-sm text-soft">when there is a repository</span>
      ),
    },
  ];
  const left = steps.filter((s) => !s.done).length;
  if (left === 0) return null;
  return (
    <Panel
      title={`First steps, ${left} to go`}
      aside={
        <Button
          look="bare"
          onClick={() => {
            localStorage.setItem(kept, me.name);
            setAway(true);
          }}
        >
          Put away
        </Button>
      }
    >
      <ol className="grid gap-px overflow-hidden rounded-b-lg bg-rule sm:grid-cols-2 lg:grid-cols-4">
        {steps.map((s) => (
          <li key={s.title} className="flex gap-2.5 bg-sheet px-4 py-3">
            {s.done ? (
              <CircleCheck size={18} className="mt-0.5 shrink-0 text-good" aria-label="done" />
            ) : (
              <Circle size={18} className="mt-0.5 shrink-0 text-soft" aria-label="to do" />
            )}
            <div className="min-w-0">
              <p className={`font-medium ${s.done ? "text-soft line-through" : ""}`}>{s.title}</p>
              {!s.done && (
                <>
                  <p className="mb-1.5 text-xs text-soft">{s.say}</p>
                  {s.act}
                </>
              )}
            </div>
          </li>
        ))}
      </ol>
    </Panel>
  );
}

/** Notices are what somebody should know at once: a password or a token that will not do for long. */
export function Notices({ me, changePassword }: { me: Schemas["Me"]; changePassword: () => void }) {
  const { pathname } = useLocation();
  const tokens = useQuery(rightsQueries.tokens(false));
  const ending = (tokens.data ?? []).filter((t) => t.endsSoon && t.usedAt && new Date(t.expiresAt) > new Date());
  return (
    <>
      {me.changePassword && !(me.admin && pathname === "/") && (
        <p
          role="note"
          className="mb-4 flex flex-wrap items-center gap-3 rounded-lg border border-glow/40 bg-glow-wash px-4 py-2.5 text-sm"
        >
          Somebody else chose your password. <Button onClick={changePassword}>Choose your own</Button>
        </p>
      )}
      {ending.length > 0 && (
        <p role="note" className="mb-4 rounded-lg border border-glow/40 bg-glow-wash px-4 py-2.5 text-sm">
          {ending.length === 1 ? (
            <>
              Your token <b className="font-medium">{ending[0]!.name}</b> ends within a week
            </>
          ) : (
            <>{ending.length} of your tokens end within a week</>
          )}
          , and what uses {ending.length === 1 ? "it" : "them"} will be refused.{" "}
          <Link to="/tokens">
            Make new ones <ArrowRight size={13} className="inline" aria-hidden />
          </Link>
        </p>
      )}
    </>
  );
}
