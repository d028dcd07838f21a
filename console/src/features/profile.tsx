// Oneself: who one is here, the sign-in password, and the open sessions.

import { type Me, api, result } from "../api";
import { Card, Choice, DrawerButton, Field, Form, Page, text, told, useNow } from "../parts";
import {
  DATE_LANGUAGES,
  setClock,
  setDateLanguage,
  useClock,
  useDateLanguage,
} from "../parts/time";
import { Sessions } from "./sessions";

export function Profile({ me }: { me: Me }) {
  const language = useDateLanguage();
  const clock = useClock();
  const now = useNow(30_000);
  const example = new Date(now).toLocaleString(
    language || undefined,
    clock === "24" ? { hourCycle: "h23" } : {},
  );
  return (
    <Page
      title={me.display_name}
      note={`Signed in as ${me.sign_in_name} at ${me.organisation}`}
      actions={
        <DrawerButton label="Change password">
          {(close) => (
            <Form
              label="Change password"
              done={close}
              submit={async (data) => {
                await result(
                  api.POST("/api/v1/me/password", {
                    body: { present: text(data, "present"), new: text(data, "new") },
                  }),
                );
                told("Your password is changed; your other sessions have ended.");
              }}
            >
              <Field
                label="Current password"
                name="present"
                type="password"
                autoComplete="current-password"
                required
              />
              <Field
                label="New password"
                name="new"
                type="password"
                autoComplete="new-password"
                minLength={12}
                required
                hint="At least 12 characters."
              />
            </Form>
          )}
        </DrawerButton>
      }
    >
      <Card title="Duties">
        {me.duties.length > 0 ? (
          <p>{me.duties.join(", ")}</p>
        ) : (
          <p className="quiet">You hold no duty. What you can open comes from grants alone.</p>
        )}
      </Card>
      <Card title="Dates and times">
        <div className="flex flex-wrap items-end gap-4">
          <div className="w-64">
            <Choice
              label="Language of dates"
              name="dates"
              value={language}
              onChange={(event) => setDateLanguage(event.target.value)}
              options={DATE_LANGUAGES}
            />
          </div>
          <label className="flex h-8 cursor-pointer items-center gap-2">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              checked={clock === "24"}
              onChange={() => setClock(clock === "24" ? "system" : "24")}
            />
            24-hour times
          </label>
          <p className="quiet flex h-8 items-center">
            For example <span className="ml-1">{example}</span>
          </p>
        </div>
        <p className="quiet mt-2">Kept in this browser.</p>
      </Card>
      <Card title="Your sessions">
        <Sessions />
      </Card>
    </Page>
  );
}
