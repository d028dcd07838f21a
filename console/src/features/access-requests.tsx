// AccessRequests: asking for what one sees the name of and no more, and answering.

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Discoverable, type AccessRequest, api, result, type Level, all } from "../api";
import {
  Act,
  Card,
  Choice,
  Empty,
  Field,
  DrawerButton,
  Form,
  State,
  Table,
  Trouble,
  When,
  text,
  told,
  word,
} from "../parts";

const AFTER = ["access-requests", "discoverable", "credentials", "folders", "grants"];

function Answer({ accessRequest }: { accessRequest: AccessRequest }) {
  const [comment, setComment] = useState("");
  const told = { params: { path: { access_request: accessRequest.id } }, body: { comment } };
  const settle = (what: "grant" | "refuse") => () =>
    what === "grant"
      ? result(api.POST("/api/v1/access-requests/{access_request}/grant", told))
      : result(api.POST("/api/v1/access-requests/{access_request}/refuse", told));
  return (
    <div className="mt-1 flex flex-wrap items-end gap-2">
      <Field
        label={`Comment to ${accessRequest.person_name}`}
        name="comment"
        value={comment}
        onChange={(event) => setComment(event.target.value)}
      />
      <Act
        label="Grant"
        of={`to ${accessRequest.person_name}`}
        run={settle("grant")}
        after={AFTER}
        look="btn-sm btn-primary"
      />
      <Act
        label="Refuse"
        of={`to ${accessRequest.person_name}`}
        run={settle("refuse")}
        after={AFTER}
      />
    </div>
  );
}

/** What one cannot open, by its name. */
function Names() {
  const [find, setFind] = useState("");
  const long = find.trim().length > 1;
  const found = useQuery({
    queryKey: ["discoverable", find],
    queryFn: () =>
      result(api.GET("/api/v1/discoverable", { params: { query: { limit: 50, find } } })),
    enabled: long,
  });
  const ask = (item: Discoverable) => async (data: FormData) => {
    await result(
      api.POST("/api/v1/access-requests", {
        body: {
          credential: item.id,
          level: word<Level>(data, "level"),
          reason: text(data, "reason"),
        },
      }),
    );
    told(`The stewards of ${item.place}/${item.name} have been asked.`);
  };
  return (
    <>
      <Field
        label="Find a credential without access"
        name="discoverable"
        value={find}
        onChange={(event) => setFind(event.target.value)}
      />
      <Trouble error={found.error} />
      {long && found.data?.items.length === 0 && (
        <Empty>No credential of this name can be requested.</Empty>
      )}
      <ul className="flex flex-col gap-1">
        {long &&
          found.data?.items.map((item) => (
            <li key={item.id} className="border-l-4 border-base-300 pl-3">
              <strong>{item.name}</strong> <span className="quiet">in {item.place}</span>{" "}
              {item.asked && <State word="waiting" />}
              {!item.asked && (
                <DrawerButton label={`Ask for ${item.name}`}>
                  {(close) => (
                    <Form label="Request access" submit={ask(item)} after={AFTER} done={close}>
                      <Choice
                        label="To"
                        name="level"
                        defaultValue="use"
                        options={[
                          ["list", "know of it"],
                          ["use", "use it without seeing it"],
                          ["reveal", "see it"],
                          ["edit", "change it"],
                        ]}
                      />
                      <Field label="Reason" name="reason" required />
                    </Form>
                  )}
                </DrawerButton>
              )}
            </li>
          ))}
      </ul>
    </>
  );
}

export function AccessRequests() {
  const settings = useQuery({
    queryKey: ["settings"],
    queryFn: () => result(api.GET("/api/v1/settings")),
  });
  const accessRequests = useQuery({
    queryKey: ["access-requests"],
    queryFn: () => all((query) => api.GET("/api/v1/access-requests", { params: { query } })),
  });
  const shows = settings.data?.settings.discoverable_names === true;
  const rows = accessRequests.data ?? [];
  if (!shows && rows.length === 0) return <Trouble error={accessRequests.error} />;
  return (
    <Card title="Access requests">
      <Trouble error={accessRequests.error} />
      <ul className="flex flex-col gap-3">
        {rows
          .filter((accessRequest) => accessRequest.may_decide)
          .map((accessRequest) => (
            <li key={accessRequest.id} className="border-l-4 border-info pl-3">
              <strong>{accessRequest.person_name}</strong> asks for “{accessRequest.level}” on{" "}
              {accessRequest.place}: “{accessRequest.reason}”
              <Answer accessRequest={accessRequest} />
            </li>
          ))}
      </ul>
      {shows && <Names />}
      {rows.some((accessRequest) => !accessRequest.may_decide) && (
        <Table
          label="Access requests"
          heads={["State", "For", "Level", "Who", "Reason", "Asked", "Answer"]}
        >
          {rows
            .filter((accessRequest) => !accessRequest.may_decide)
            .map((accessRequest) => (
              <tr key={accessRequest.id}>
                <td>
                  <State word={accessRequest.state} />
                </td>
                <td>{accessRequest.place}</td>
                <td>{accessRequest.level}</td>
                <td>{accessRequest.person_name}</td>
                <td>{accessRequest.reason}</td>
                <td>
                  <When at={accessRequest.asked_at} />
                </td>
                <td>
                  {accessRequest.state === "waiting" ? (
                    <Act
                      label="Withdraw"
                      of={`the access request for ${accessRequest.place}`}
                      look="btn-xs"
                      run={() =>
                        result(
                          api.POST("/api/v1/access-requests/{access_request}/withdraw", {
                            params: { path: { access_request: accessRequest.id } },
                          }),
                        )
                      }
                      after={AFTER}
                    />
                  ) : (
                    accessRequest.decided_by
                  )}
                  {accessRequest.comment && (
                    <span className="quiet"> “{accessRequest.comment}”</span>
                  )}
                </td>
              </tr>
            ))}
        </Table>
      )}
    </Card>
  );
}
