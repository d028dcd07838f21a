// The first page: what waits for somebody, what they hold, what failed or is due, and what they use.

import { useQuery } from "@tanstack/react-query";
import { Copy, Star } from "lucide-react";
import type { ReactNode } from "react";
import { Link } from "wouter";
import { type CredentialItem, type Me, type Overview, api, overviewQuery, result } from "../api";
import {
  Act,
  Card,
  CredentialLink,
  Empty,
  KindIcon,
  Page,
  Skeleton,
  State,
  Trouble,
  When,
  told,
} from "../parts";
import { Held } from "./held";
import { DeviceTrouble } from "./device-trouble";
import { FirstSteps } from "./first-steps";
import { Pending } from "./pending-acts";
import { Asks, Decision } from "./decision";
import { TryAgain, rotate } from "./job-tasks";
import { lend, useTimes } from "./reveal";
import { DayBars } from "../parts/chart";
import { useDateLanguage } from "../parts/time";

/** One line of what is wrong: the state, what it is of, what it means, what to do. */
function Line({
  word,
  what,
  children,
  action,
}: {
  word: string | null | undefined;
  what: ReactNode;
  children?: ReactNode;
  action?: ReactNode;
}) {
  return (
    <li className="grid grid-cols-[8rem_1fr_auto] items-center gap-x-3 py-2 max-sm:grid-cols-[1fr_auto]">
      <span className="max-sm:col-span-2">
        <State word={word} />
      </span>
      <div className="min-w-0">
        {what}
        {children && <p className="quiet text-[0.8125rem]">{children}</p>}
      </div>
      {action}
    </li>
  );
}

function Attention({ data, wrong }: { data: Overview; wrong: CredentialItem[] }) {
  const after = ["overview", "jobs", "upkeep"];
  // Newest first: what came of the last try of each is what counts.
  const seen = new Set<string>();
  const jobs = data.troubled_jobs
    .filter((job) => !seen.has(job.credential) && seen.add(job.credential))
    .slice(0, 6);
  const accounts = data.troubled_accounts.filter((account) => !seen.has(account.credential));
  for (const account of accounts) seen.add(account.credential);
  const found = wrong.filter((item) => !seen.has(item.id)).slice(0, 6);
  const nothing = jobs.length + accounts.length + data.due_soon.length + found.length === 0;
  return (
    <Card
      title="Needs attention"
      actions={
        <Link href="/findings" className="link">
          All findings
        </Link>
      }
    >
      {nothing && (
        <Empty>
          Every checked account accepts its stored password, no job has failed, and no rotation is
          due within a day.
        </Empty>
      )}
      <ul className="divide-y divide-base-300">
        {jobs.map((job) => (
          <Line
            key={job.id}
            word={job.outcome ?? job.state}
            what={<CredentialLink id={job.credential} path={job.credential_path} />}
            action={<TryAgain job={job} look="btn-sm" />}
          >
            {job.task}, <When at={job.finished_at ?? job.queued_at} />
            {job.message && `: ${job.message}`}
          </Line>
        ))}
        {accounts.map((account) => (
          <Line
            key={account.credential}
            word={account.check_outcome}
            what={<CredentialLink id={account.credential} path={account.credential_path} />}
            action={
              <Act
                label="Rotate"
                of={account.credential_path}
                run={rotate(account.credential)}
                after={after}
                confirm={`Rotate ${account.credential_path}? It gets a new generated password, on the device and in the vault.`}
              />
            }
          >
            The stored password does not open the account; checked <When at={account.checked_at} />.
          </Line>
        ))}
        {data.due_soon.map((account) => (
          <Line
            key={`due ${account.credential}`}
            word="due"
            what={<CredentialLink id={account.credential} path={account.credential_path} />}
          >
            Rotation at <When at={account.next_rotation_at} />
          </Line>
        ))}
        {found.map((item) => (
          <Line
            key={item.id}
            word={item.findings[0]}
            what={<CredentialLink id={item.id} path={`${item.place}/${item.name}`} />}
            action={
              <Link href={`/vault/${item.folder}/${item.id}`} className="btn btn-sm">
                Open
              </Link>
            }
          />
        ))}
      </ul>
    </Card>
  );
}

/** What somebody uses: opened, or its secret copied, in one press. */
function Used() {
  const times = useTimes();
  const favourites = useQuery({
    queryKey: ["credentials", "home", "favourites"],
    queryFn: () =>
      result(
        api.GET("/api/v1/credentials", { params: { query: { limit: 5, view: "favourites" } } }),
      ),
  });
  const recent = useQuery({
    queryKey: ["credentials", "home", "recent"],
    queryFn: () =>
      result(api.GET("/api/v1/credentials", { params: { query: { limit: 6, view: "recent" } } })),
  });
  const starred = favourites.data?.items ?? [];
  const others = (recent.data?.items ?? []).filter(
    (item) => !starred.some((each) => each.id === item.id),
  );
  const copy = async (item: CredentialItem) => {
    const shown = await result(
      api.POST("/api/v1/credentials/{credential}/reveal", {
        params: { path: { credential: item.id } },
        body: {},
      }),
    );
    await lend("secret", shown.value, times.clipboard);
  };
  return (
    <Card title="Recent and favourites">
      <Trouble error={favourites.error ?? recent.error} />
      {favourites.isSuccess && recent.isSuccess && starred.length + others.length === 0 && (
        <Empty>
          What you reveal or copy is listed here, and what you mark as a favourite stays.
        </Empty>
      )}
      <ul className="flex flex-col">
        {[...starred, ...others].slice(0, 8).map((item) => (
          <li key={item.id} className="flex h-8 items-center gap-2">
            {item.favourite ? (
              <Star className="size-4 shrink-0" aria-label="a favourite" />
            ) : (
              <KindIcon kind={item.kind} />
            )}
            <span className="min-w-0 grow truncate">
              <CredentialLink id={item.id} path={`${item.place}/${item.name}`} />
            </span>
            {!item.gated && ["reveal", "edit", "steward"].includes(item.level) && (
              <button
                type="button"
                className="btn btn-ghost btn-xs btn-square"
                aria-label={`Copy the secret of ${item.name}`}
                onClick={() =>
                  void copy(item).catch((error) => told(error.detail ?? String(error)))
                }
              >
                <Copy className="size-4" aria-hidden="true" />
              </button>
            )}
          </li>
        ))}
      </ul>
    </Card>
  );
}

/** How the rotations of the week went, and how the accounts are now. */
function Week({ data }: { data: Overview }) {
  const total = (of: "done" | "failed") =>
    data.rotations.reduce((sum, day) => sum + day[of], 0).toLocaleString();
  if (data.checks.length === 0) return null;
  return (
    <Card
      title="Rotations in seven days"
      actions={
        <Link href="/jobs?filter=task%3Drotation" className="link">
          {total("done")} done, {total("failed")} failed
        </Link>
      }
    >
      {data.rotations.some((day) => day.done + day.failed > 0) ? (
        <DayBars days={data.rotations} label="Rotations in seven days" />
      ) : (
        <Empty>No rotation has run in seven days.</Empty>
      )}
      <ul
        className="mt-2 flex flex-wrap gap-x-4 gap-y-1 border-t border-base-300 pt-2"
        aria-label="Accounts by their last check"
      >
        {data.checks
          .toSorted((a, b) => b.accounts - a.accounts)
          .map(({ outcome, accounts }) => (
            <li key={outcome ?? ""}>
              <Link
                href={`/accounts?filter=${encodeURIComponent(`state=${outcome ?? "never-checked"}`)}`}
                className="flex items-center gap-1 hover:underline"
              >
                <State word={outcome} /> {accounts.toLocaleString()}
              </Link>
            </li>
          ))}
      </ul>
    </Card>
  );
}

/** What one person may do alone where two are asked for. */
function Alone({ data }: { data: Overview }) {
  const open = data.two_people.filter((each) => each.state !== "on");
  if (open.length === 0) return null;
  return (
    <Card
      title="Changes that one person may make alone"
      actions={
        <Link href="/settings" className="link">
          Settings
        </Link>
      }
    >
      <ul>
        {open.map((each) => (
          <li key={each.what} className="flex flex-wrap gap-x-2 py-0.5">
            <State word={each.state} /> {each.what}
            {each.state === "impossible" && (
              <span className="quiet">nobody else could confirm it</span>
            )}
          </li>
        ))}
      </ul>
    </Card>
  );
}

function Waiting({ data }: { data: Overview }) {
  return (
    <Card
      title="Waiting for you"
      count={data.to_decide.length}
      actions={
        <Link href="/requests" className="link">
          All requests
        </Link>
      }
    >
      {data.to_decide.length === 0 && <Empty>No request waits for your decision.</Empty>}
      <ul className="divide-y divide-base-300">
        {data.to_decide.map((request) => (
          <li key={request.id} className="py-2">
            <Asks request={request} />
            <Decision request={request} />
          </li>
        ))}
      </ul>
    </Card>
  );
}

function Holding({ data }: { data: Overview }) {
  return (
    <Card title="You hold" count={data.held.length}>
      {data.held.length === 0 && <Empty>Nothing is checked out to you.</Empty>}
      <ul className="divide-y divide-base-300">
        {data.held.map((held) => (
          <Held key={held.id} held={held} />
        ))}
      </ul>
      {data.asked.length > 0 && <h3 className="mt-2 font-semibold">Your requests</h3>}
      <ul className="divide-y divide-base-300">
        {data.asked.map((request) => (
          <li key={request.id} className="flex flex-wrap items-center justify-between gap-2 py-1.5">
            <span>
              <State word={request.state} />{" "}
              <CredentialLink id={request.credential} path={request.credential_path} />
              {request.comment && <span className="quiet"> “{request.comment}”</span>}
            </span>
            <span className="flex gap-2">
              {request.state === "approved" && (
                <Act
                  label="Check out"
                  run={() =>
                    result(api.POST("/api/v1/checkouts", { body: { request: request.id } }))
                  }
                  after={["overview", "credential"]}
                  look="btn-sm btn-primary"
                />
              )}
              <Act
                label="Withdraw"
                run={() =>
                  result(
                    api.POST("/api/v1/requests/{request}/withdraw", {
                      params: { path: { request: request.id } },
                      body: {},
                    }),
                  )
                }
                after={["overview", "requests"]}
                look="btn-sm btn-ghost"
              />
            </span>
          </li>
        ))}
      </ul>
    </Card>
  );
}

export function Home({ me }: { me: Me }) {
  const overview = useQuery(overviewQuery);
  const wrong = useQuery({
    queryKey: ["credentials", "wrong"],
    queryFn: () =>
      result(api.GET("/api/v1/credentials", { params: { query: { finding: "any", limit: 12 } } })),
  });
  const data = overview.data;
  const language = useDateLanguage();
  const today = new Date().toLocaleDateString(language || undefined, {
    weekday: "long",
    day: "numeric",
    month: "long",
  });
  return (
    <Page title="Home" note={today}>
      <Trouble error={overview.error} />
      {!data && !overview.error && <Skeleton rows={6} />}
      {data && (
        <div className="grid items-start gap-4 lg:grid-cols-[5fr_3fr]">
          <div className="flex min-w-0 flex-col gap-4">
            <FirstSteps me={me} />
            <Waiting data={data} />
            {data.pending.length > 0 && (
              <Card title="Waiting for a second person" count={data.pending.length}>
                <Pending acts={data.pending} />
              </Card>
            )}
            <Attention data={data} wrong={wrong.data?.items ?? []} />
            {data.devices.length > 0 && (
              <Card title="Devices that no passwords are sent to" count={data.devices.length}>
                <ul className="divide-y divide-base-300">
                  {data.devices.map((device) => (
                    <li key={device.id} className="py-2">
                      <Link
                        href={`/devices/${device.id}`}
                        className="font-semibold hover:underline"
                      >
                        {device.place}/{device.name}
                      </Link>
                      <DeviceTrouble device={device} />
                    </li>
                  ))}
                </ul>
              </Card>
            )}
          </div>
          <div className="flex min-w-0 flex-col gap-4">
            <Holding data={data} />
            <Week data={data} />
            <Used />
            <Alone data={data} />
          </div>
        </div>
      )}
    </Page>
  );
}
