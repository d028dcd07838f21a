// Oneself: who one is here, the sign-in password, and the open sessions.

import { type Me, api, result } from "../api";
import { Card, DrawerButton, Field, Form, Page, text, told } from "../parts";
import { Sessions } from "./sessions";

export function Profile({ me }: { me: Me }) {
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
      <Card title="Your sessions">
        <Sessions />
      </Card>
    </Page>
  );
}
