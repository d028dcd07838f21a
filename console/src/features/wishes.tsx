// Wishes: asking for what one sees the name of and no more, and answering.

import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { type Beyond, type Page, type Settings, type Wish, all, api } from "../api";
import { Act, Card, Choice, Empty, Field, Fold, Form, State, Table, Trouble, When, text, told } from "../parts";

const AFTER = ["wishes", "beyond", "credentials", "folders", "grants"];

function Answer({ wish }: { wish: Wish }) {
  const [comment, setComment] = useState("");
  const settle = (what: string) => () => api.post(`/wishes/${wish.id}/${what}`, { comment });
  return (
    <div className="mt-1 flex flex-wrap items-end gap-2">
      <Field label={`Comment to ${wish.person_name}`} name="comment" value={comment} onChange={(event) => setComment(event.target.value)} />
      <Act label="Grant it" of={`to ${wish.person_name}`} run={settle("grant")} after={AFTER} look="btn-sm btn-primary" />
      <Act label="Refuse it" of={`to ${wish.person_name}`} run={settle("refuse")} after={AFTER} />
    </div>
  );
}

/** What one cannot open, by its name. */
function Names() {
  const [find, setFind] = useState("");
  const long = find.trim().length > 1;
  const found = useQuery({ queryKey: ["beyond", find], queryFn: () => api.get<Page<Beyond>>(`/beyond?limit=50&find=${encodeURIComponent(find)}`), enabled: long });
  const ask = (item: Beyond) => async (data: FormData) => {
    await api.post("/wishes", { credential: item.id, level: text(data, "level"), reason: text(data, "reason") });
    told(`The stewards of ${item.place}/${item.name} are asked.`);
  };
  return (
    <>
      <Field label="Find by name what you cannot open" name="beyond" value={find} onChange={(event) => setFind(event.target.value)} />
      <Trouble error={found.error} />
      {long && found.data?.items.length === 0 && <Empty>There is nothing of this name beyond what you see.</Empty>}
      <ul className="flex flex-col gap-1">
        {long &&
          found.data?.items.map((item) => (
            <li key={item.id} className="border-l-4 border-base-300 pl-3">
              <strong>{item.name}</strong> <span className="quiet">in {item.place}</span> {item.asked && <State word="waiting" />}
              {!item.asked && (
                <Fold label={`Ask for ${item.name}`}>
                  {(close) => (
                    <Form label="Ask its stewards" submit={ask(item)} after={AFTER} done={close}>
                      <Choice label="To" name="level" defaultValue="use" options={[["list", "know of it"], ["use", "use it without seeing it"], ["reveal", "see it"], ["edit", "change it"]]} />
                      <Field label="What for" name="reason" required />
                    </Form>
                  )}
                </Fold>
              )}
            </li>
          ))}
      </ul>
    </>
  );
}

export function Wishes() {
  const settings = useQuery({ queryKey: ["settings"], queryFn: () => api.get<Settings>("/settings") });
  const wishes = useQuery({ queryKey: ["wishes"], queryFn: () => all<Wish>("/wishes") });
  const shows = settings.data?.settings.names_beyond === true;
  const rows = wishes.data ?? [];
  if (!shows && rows.length === 0) return <Trouble error={wishes.error} />;
  return (
    <Card title="Wishes">
      <Trouble error={wishes.error} />
      <ul className="flex flex-col gap-3">
        {rows
          .filter((wish) => wish.may_decide)
          .map((wish) => (
            <li key={wish.id} className="border-l-4 border-info pl-3">
              <strong>{wish.person_name}</strong> wishes for “{wish.level}” on {wish.place}: “{wish.reason}”
              <Answer wish={wish} />
            </li>
          ))}
      </ul>
      {shows && <Names />}
      {rows.some((wish) => !wish.may_decide) && (
        <Table label="Wishes" heads={["State", "For", "Level", "Who", "Reason", "Asked", "Answer"]}>
          {rows
            .filter((wish) => !wish.may_decide)
            .map((wish) => (
              <tr key={wish.id}>
                <td><State word={wish.state} /></td>
                <td>{wish.place}</td>
                <td>{wish.level}</td>
                <td>{wish.person_name}</td>
                <td>{wish.reason}</td>
                <td><When at={wish.asked_at} /></td>
                <td>
                  {wish.state === "waiting" ? <Act label="Withdraw" of={`the wish for ${wish.place}`} look="btn-xs" run={() => api.post(`/wishes/${wish.id}/withdraw`)} after={AFTER} /> : wish.decided_by}
                  {wish.comment && <span className="quiet"> “{wish.comment}”</span>}
                </td>
              </tr>
            ))}
        </Table>
      )}
    </Card>
  );
}
