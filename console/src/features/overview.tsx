// The first page: what waits for me, what I hold, what failed or is due.

import { useQuery } from "@tanstack/react-query";
import { Link } from "wouter";
import { type Me, api, result } from "../api";
import { Act, Card, Empty, Left, State, Trouble, When } from "../components";
import { CheckIn } from "./check-in";
import { DeviceTrouble } from "./devices";
import { CredentialLink } from "./credential-link";
import { Pending } from "./pending-acts";
import { Decision } from "./requests";

/** Problem with what one may see. */
function Wrong() {
  const found = useQuery({
    queryKey: ["credentials", "wrong"],
    queryFn: () =>
      result(api.GET("/api/v1/credentials", { params: { query: { finding: "any", limit: 6 } } })),
  });
  const items = found.data?.items ?? [];
  return (
    <Card
      title="Findings"
      actions={
        <Link href="/vault?finding=any" className="link">
          All findings
        </Link>
      }
    >
      <Trouble error={found.error} />
      {found.isSuccess && items.length === 0 && (
        <Empty>
          There are no weak, reused, leaked, expired or old passwords among those that you may
          reveal.
        </Empty>
      )}
      <ul className="flex flex-col gap-1">
        {items.map((item) => (
          <li key={item.id} className="flex flex-wrap gap-x-3">
            <CredentialLink id={item.id} path={`${item.place}/${item.name}`} />
            {item.findings.map((finding) => (
              <State key={finding} word={finding} />
            ))}
          </li>
        ))}
      </ul>
    </Card>
  );
}

export function Home({ me }: { me: Me }) {
  const overview = useQuery({
    queryKey: ["overview"],
    queryFn: () => result(api.GET("/api/v1/overview")),
  });
  if (overview.error) return <Trouble error={overview.error} />;
  const data = overview.data;
  if (!data) return <p role="status">Loading …</p>;
  return (
    <>
      <h1 className="mb-3 text-xl font-semibold">Today, {me.display_name}</h1>
      <div className="grid items-start gap-3 lg:grid-cols-2">
        <Card title={`Waiting for your decision (${data.to_decide.length})`}>
          {data.to_decide.length === 0 && <Empty>No request waits for your decision.</Empty>}
          <ul className="flex flex-col gap-3">
            {data.to_decide.map((request) => (
              <li key={request.id} className="border-l-4 border-info pl-3">
                <p>
                  <strong>{request.person_name}</strong> asks for{" "}
                  <CredentialLink id={request.credential} path={request.credential_path} /> for{" "}
                  {request.minutes} minutes, since <When at={request.asked_at} />
                </p>
                <p className="quiet">“{request.reason}”</p>
                <Decision request={request} />
              </li>
            ))}
          </ul>
        </Card>
        <Card title={`Checked out to you (${data.held.length})`}>
          {data.held.length === 0 && <Empty>Nothing is checked out to you.</Empty>}
          <ul className="flex flex-col gap-2">
            {data.held.map((held) => (
              <li key={held.id} className="flex flex-wrap items-center justify-between gap-2">
                <span>
                  <CredentialLink id={held.credential} path={held.credential_path} />
                  <br />
                  <span className="quiet">
                    <Left until={held.ends_at} /> left
                    {held.rotate_on_return && "; the password is rotated afterwards"}
                  </span>
                </span>
                <CheckIn checkout={held.id} />
              </li>
            ))}
          </ul>
          {data.asked.length > 0 && <h3 className="mt-3 font-semibold">Your requests</h3>}
          <ul className="flex flex-col gap-2">
            {data.asked.map((request) => (
              <li key={request.id} className="flex flex-wrap items-center justify-between gap-2">
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
        <Card
          title={`Failed or in doubt (${data.troubled_jobs.length})`}
          actions={
            <Link href="/upkeep" className="link">
              All jobs
            </Link>
          }
        >
          {data.troubled_jobs.length === 0 && <Empty>No job has failed recently.</Empty>}
          <ul className="flex flex-col gap-2">
            {data.troubled_jobs.slice(0, 8).map((job) => (
              <li key={job.id}>
                <State word={job.outcome ?? job.state} /> {job.task} of{" "}
                <CredentialLink id={job.credential} path={job.credential_path} />,{" "}
                <When at={job.finished_at ?? job.queued_at} />
                {job.message && <p className="quiet text-sm">{job.message}</p>}
              </li>
            ))}
          </ul>
        </Card>
        <Card title="Out of sync, or due within a day">
          {data.troubled_accounts.length + data.due_soon.length === 0 && (
            <Empty>
              Every checked account accepts its stored password, and no rotation is due within a
              day.
            </Empty>
          )}
          <ul className="flex flex-col gap-1">
            {data.troubled_accounts.map((account) => (
              <li key={account.credential}>
                <State word={account.check_outcome} />{" "}
                <CredentialLink id={account.credential} path={account.credential_path} />, checked{" "}
                <When at={account.checked_at} />
              </li>
            ))}
            {data.due_soon.map((account) => (
              <li key={`due ${account.credential}`}>
                <State word="due" /> rotation of{" "}
                <CredentialLink id={account.credential} path={account.credential_path} /> at{" "}
                <When at={account.next_rotation_at} />
              </li>
            ))}
          </ul>
        </Card>
        {data.pending.length > 0 && (
          <Card title={`Waiting for a second person (${data.pending.length})`}>
            <Pending acts={data.pending} />
          </Card>
        )}
        {data.two_people.some((each) => each.state !== "on") && (
          <Card
            title="Changes that one person may make alone"
            actions={
              <Link href="/settings" className="link">
                Settings
              </Link>
            }
          >
            <ul>
              {data.two_people
                .filter((each) => each.state !== "on")
                .map((each) => (
                  <li key={each.what}>
                    <State word={each.state} /> {each.what}
                    {each.state === "impossible" && (
                      <span className="quiet">: nobody else could confirm it</span>
                    )}
                  </li>
                ))}
            </ul>
          </Card>
        )}
        {data.devices.length > 0 && (
          <Card
            title={`Devices that no passwords are sent to (${data.devices.length})`}
            actions={
              <Link href="/upkeep" className="link">
                All devices
              </Link>
            }
          >
            <ul className="flex flex-col gap-2">
              {data.devices.map((device) => (
                <li key={device.id}>
                  <strong>
                    {device.place}/{device.name}
                  </strong>
                  <DeviceTrouble device={device} />
                </li>
              ))}
            </ul>
          </Card>
        )}
        <Wrong />
      </div>
    </>
  );
}
