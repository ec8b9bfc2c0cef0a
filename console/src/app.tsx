import { useQueryClient } from "@tanstack/react-query";
import { KeyRound, LockKeyhole, LogOut, ScrollText, Search, SunMoon, WifiOff } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { lazy, Suspense, useEffect, useState } from "react";
import { Link, Route, Routes, useLocation, useNavigate } from "react-router";
import { type Schemas } from "./api/client";
import { promotionQueries } from "./promotion/calls";
import { rightsCalls, rightsQueries } from "./rights/calls";
import { statusQueries } from "./status/calls";
import { useLive } from "./api/live";
import { Notices } from "./rights/first-steps";
import { RepositoriesPage } from "./repositories/repositories";
import { Empty, Loaded, useQuery } from "./ui/parts";
import { toggleTheme } from "./ui/theme";

const PackagePage = lazy(() => import("./search/package").then((m) => ({ default: m.PackagePage })));
const RepositoryPage = lazy(() => import("./repositories/repository").then((m) => ({ default: m.RepositoryPage })));
const SearchPage = lazy(() => import("./search/search").then((m) => ({ default: m.SearchPage })));
const TokensPage = lazy(() => import("./rights/tokens").then((m) => ({ default: m.TokensPage })));
const Palette = lazy(() => import("./search/palette").then((m) => ({ default: m.Palette })));
const ChangePassword = lazy(() => import("./rights/password").then((m) => ({ default: m.ChangePassword })));
const SignInPage = lazy(() => import("./rights/sign-in").then((m) => ({ default: m.SignInPage })));
const ActivityPage = lazy(() => import("./rights/activity"));
const BuildsPage = lazy(() => import("./builds/builds"));
const BuildPage = lazy(() => import("./builds/build"));
const TracksPage = lazy(() => import("./promotion/tracks"));
const PromotionPage = lazy(() => import("./promotion/promotion"));
const NewPromotionPage = lazy(() => import("./promotion/promote"));
const SigningPage = lazy(() => import("./keys/signing"));
const StatusPage = lazy(() => import("./status/status"));
const RetentionPage = lazy(() => import("./retention/retention"));
const PolicyPage = lazy(() => import("./retention/policy"));
const TransfersPage = lazy(() => import("./transfers/transfers"));
const BundlesPage = lazy(() => import("./bundles/bundles"));
const TransferPage = lazy(() => import("./transfers/transfer"));
const RelaysPage = lazy(() => import("./relays/relays"));
const TargetsPage = lazy(() => import("./targets/targets"));
const RelayPage = lazy(() => import("./relays/relay"));
const StoresPage = lazy(() => import("./store/stores"));
const SweepPage = lazy(() => import("./retention/sweep"));
const ComparePage = lazy(() => import("./makeup/compare"));
const SafetyPage = lazy(() => import("./safety/safety"));
const AdvisoryPage = lazy(() => import("./safety/advisory"));
const RightsPage = lazy(() => import("./rights/rights"));

export function App() {
  const me = useQuery(rightsQueries.me());
  return (
    <div className="mx-auto max-w-7xl px-4">
      <Suspense>
        <Loaded query={me}>{(who) => (who.kind === "anonymous" ? <SignInPage /> : <Frame me={who} />)}</Loaded>
      </Suspense>
    </div>
  );
}

/** places are the pages of the navigation, with the beginnings of what belongs to each. */
const places: [string, RegExp][] = [
  ["/search", /^\/(search|package|compare)/],
  ["/builds", /^\/builds/],
  ["/tracks", /^\/(tracks|promotions|promote|signing|targets)/],
  ["/retention", /^\/(retention|policies|sweeps|stores)/],
  ["/safety", /^\/safety/],
  ["/tokens", /^\/tokens/],
  ["/rights", /^\/rights/],
  ["/activity", /^\/activity/],
  ["/", /^\/($|repositories|transfers|relays|bundles)/],
];

/** placeOf is where in the navigation a page belongs. */
function placeOf(path: string) {
  return places.find(([, begins]) => begins.test(path))?.[0];
}

function Frame({ me }: { me: Schemas["Me"] }) {
  const live = useLive();
  const mine = useQuery(promotionQueries.waiting());
  const waiting = mine.data?.promotions.length ?? 0;
  const place = placeOf(useLocation().pathname);
  const [palette, setPalette] = useState(false);
  const [password, setPassword] = useState(false);
  useEffect(() => {
    const open = (e: KeyboardEvent) => {
      const typing = (e.target as HTMLElement).closest("input, textarea, select");
      if ((e.key === "k" && (e.ctrlKey || e.metaKey)) || (e.key === "/" && !typing)) {
        e.preventDefault();
        setPalette(true);
      }
    };
    addEventListener("keydown", open);
    return () => removeEventListener("keydown", open);
  }, []);
  return (
    <>
      <a href="#main" className="sr-only focus:not-sr-only">
        Skip to the content
      </a>
      <header className="flex flex-wrap items-center gap-x-4 gap-y-2 py-3">
        <Link
          to="/"
          className="flex items-center gap-2 text-lg font-semibold tracking-tight text-ink hover:no-underline"
        >
          <img src="/mark.svg" alt="" className="size-7" /> Crelvo
        </Link>
        <nav aria-label="Pages" className="order-3 -mx-1 flex max-w-full flex-wrap gap-1 p-1 text-sm sm:order-none">
          {[
            ["/", "Repositories"],
            ["/search", "Packages"],
            ["/builds", "Builds"],
            ["/tracks", "Tracks"],
            ["/retention", "Retention"],
            ["/safety", "Safety"],
            ["/tokens", "Tokens"],
            ...(me.someAdmin ? [["/rights", "Rights"]] : []),
            ...(me.admin ? [["/activity", "Activity"]] : []),
          ].map(([to, text]) => (
            <Link
              key={to}
              to={to!}
              aria-current={place === to ? "page" : undefined}
              className={`rounded px-1.5 py-1.5 whitespace-nowrap sm:px-2 hover:bg-wash hover:no-underline ${place === to ? "bg-wash font-medium text-deep underline decoration-2 underline-offset-8" : "text-soft"}`}
            >
              {text}
              {to === "/tracks" && waiting > 0 && (
                <span
                  className="ml-1.5 rounded-full bg-glow-wash px-1.5 text-xs font-medium text-glow"
                  title={`${waiting} wait for you`}
                >
                  {waiting}
                </span>
              )}
            </Link>
          ))}
        </nav>
        <button
          type="button"
          onClick={() => setPalette(true)}
          className="ml-auto flex h-9 w-36 max-w-full lg:w-56 cursor-pointer items-center gap-2 rounded border border-rule bg-sheet px-2.5 text-sm text-soft hover:border-deep"
        >
          <Search size={15} aria-hidden className="shrink-0" />{" "}
          <span className="whitespace-nowrap max-lg:hidden">Search packages</span>
          <span className="lg:hidden">Search</span>
          <kbd
            aria-hidden
            className="ml-auto rounded max-sm:hidden border border-rule px-1 font-mono text-xs whitespace-nowrap"
          >
            Ctrl K
          </kbd>
        </button>
        <StatusLamp />
        {!live && (
          <span role="status" className="flex items-center gap-1.5 text-sm text-glow">
            <WifiOff size={15} aria-hidden /> connecting…
          </span>
        )}
        <AccountMenu me={me} changePassword={() => setPassword(true)} />
      </header>
      <main id="main" className="pb-16">
        <Notices me={me} changePassword={() => setPassword(true)} />
        <Suspense
          fallback={
            <p className="px-1 py-6 text-sm text-soft" aria-busy="true">
              Loading…
            </p>
          }
        >
          <Routes>
            <Route path="/" element={<RepositoriesPage me={me} changePassword={() => setPassword(true)} />} />
            <Route path="/repositories/:name/*" element={<RepositoryPage />} />
            <Route path="/package/*" element={<PackagePage />} />
            <Route path="/compare" element={<ComparePage />} />
            <Route path="/search" element={<SearchPage />} />
            <Route path="/builds" element={<BuildsPage me={me} />} />
            <Route path="/builds/:name/:number" element={<BuildPage />} />
            <Route path="/tracks" element={<TracksPage me={me} />} />
            <Route path="/tracks/:track" element={<TracksPage me={me} />} />
            <Route path="/signing" element={<SigningPage me={me} />} />
            <Route path="/promotions/:id" element={<PromotionPage />} />
            <Route path="/promote" element={<NewPromotionPage />} />
            <Route path="/status" element={<StatusPage me={me} />} />
            <Route path="/retention" element={<RetentionPage />} />
            <Route path="/retention/:shown" element={<RetentionPage />} />
            <Route path="/policies/:name" element={<PolicyPage />} />
            <Route path="/sweeps/:id" element={<SweepPage />} />
            <Route path="/safety" element={<SafetyPage me={me} />} />
            <Route path="/safety/:shown" element={<SafetyPage me={me} />} />
            <Route path="/safety/advisories/:id" element={<AdvisoryPage me={me} />} />
            <Route path="/bundles" element={<BundlesPage />} />
            <Route path="/transfers" element={<TransfersPage />} />
            <Route path="/transfers/:id" element={<TransferPage />} />
            {me.admin && <Route path="/relays" element={<RelaysPage />} />}
            {me.admin && <Route path="/targets" element={<TargetsPage />} />}
            {me.admin && <Route path="/relays/:name" element={<RelayPage />} />}
            {me.admin && <Route path="/stores" element={<StoresPage />} />}
            <Route path="/tokens" element={<TokensPage me={me} />} />
            {me.someAdmin && <Route path="/rights" element={<RightsPage me={me} />} />}
            <Route path="/activity" element={<ActivityPage me={me} />} />
            <Route
              path="*"
              element={
                <Empty title="There is no such page">
                  Go to the <Link to="/">repositories</Link>, or search with Ctrl K.
                </Empty>
              }
            />
          </Routes>
        </Suspense>
      </main>
      <Suspense>
        {password && <ChangePassword close={() => setPassword(false)} />}
        {palette && <Palette open={palette} onOpenChange={setPalette} />}
      </Suspense>
    </>
  );
}

/** StatusLamp says on every page whether something is wrong. */
function StatusLamp() {
  const status = useQuery({ ...statusQueries.status(), refetchInterval: 60_000 });
  if (!status.data) return null;
  const concerns = status.data.concerns;
  const wrong = concerns.filter((c) => c.level === "wrong").length;
  const [look, text] =
    wrong > 0
      ? ["bg-bad", `${wrong} wrong`]
      : concerns.length > 0
        ? ["bg-glow", `${concerns.length} to look at`]
        : ["bg-good", "all is well"];
  return (
    <Link to="/status" className="inline-flex items-center gap-1.5 text-sm text-soft" title="Status">
      <span aria-hidden className={`size-2.5 rounded-full ${look}`} />
      <span className="max-sm:sr-only">{text}</span>
    </Link>
  );
}

const item =
  "flex w-full cursor-pointer items-center gap-2 rounded px-2.5 py-1.5 text-sm text-ink outline-none data-[highlighted]:bg-wash hover:no-underline";

function AccountMenu({ me, changePassword }: { me: Schemas["Me"]; changePassword: () => void }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger className="flex h-9 cursor-pointer items-center gap-2 rounded px-2 text-sm hover:bg-wash">
        <span
          aria-hidden
          className="grid size-6 place-items-center rounded-full bg-deep text-xs font-semibold text-deep-ink uppercase"
        >
          {me.name[0]}
        </span>
        <span className="max-sm:sr-only">{me.name}</span>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          className="z-20 max-w-72 min-w-52 rounded-lg border border-rule bg-sheet p-1 shadow-lg"
        >
          <p className="px-2.5 py-1.5 text-xs text-soft">
            {me.roles
              .map((r) => `${r.role} on ${r.repositories}${r.packages ? ` for ${r.packages}` : ""}`)
              .join(", ") || "no roles"}
            {me.teams.length > 0 && <span className="block">in {me.teams.join(", ")}</span>}
          </p>
          <DropdownMenu.Item className={item} onSelect={() => void navigate("/tokens")}>
            <KeyRound size={15} /> My tokens
          </DropdownMenu.Item>
          <DropdownMenu.Item className={item} onSelect={() => void navigate("/activity")}>
            <ScrollText size={15} /> {me.admin ? "Activity" : "What I did"}
          </DropdownMenu.Item>
          {me.kind === "user" && (
            <DropdownMenu.Item className={item} onSelect={changePassword}>
              <LockKeyhole size={15} /> Change password
            </DropdownMenu.Item>
          )}
          <DropdownMenu.Item className={item} onSelect={toggleTheme}>
            <SunMoon size={15} /> Light or dark
          </DropdownMenu.Item>
          <DropdownMenu.Item
            className={item}
            onSelect={() =>
              void rightsCalls.signOut().finally(() => {
                queries.clear();
                location.assign("/");
              })
            }
          >
            <LogOut size={15} /> Sign out
          </DropdownMenu.Item>
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
