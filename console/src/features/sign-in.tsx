// The door: set-up, opening the vault, signing in.

import { useQuery, useQueryClient } from "@tanstack/react-query";
import { type ReactNode, useEffect, useState } from "react";
import { Problem, api, result } from "../api";
import { Field, Form, Trouble, text } from "../parts";
import { Shell } from "../layout";

function Panel({ title, children }: { title: string; children: ReactNode }) {
  return (
    <main className="mx-auto flex min-h-dvh max-w-md flex-col justify-center gap-3 p-4">
      <div className="flex items-center gap-3">
        <img src="/mark.svg" alt="" className="h-9 w-9" />
        <h1 className="text-xl font-semibold">{title}</h1>
      </div>
      <div className="rounded-box border border-base-300 bg-base-100 p-4">{children}</div>
    </main>
  );
}

function SetUp({ again }: { again: () => void }) {
  const submit = (data: FormData) =>
    result(
      api.POST("/api/v1/setup", {
        body: {
          code: text(data, "code"),
          organisation: text(data, "organisation"),
          sign_in_name: text(data, "name"),
          display_name: text(data, "display_name"),
          password: text(data, "password"),
          passphrase: text(data, "passphrase") || undefined,
        },
      }),
    );
  return (
    <Panel title="Set up Jexlin">
      <Form submit={submit} label="Set up" done={again}>
        <Field
          label="Set-up code"
          name="code"
          required
          hint="The service wrote it to the file setup-code in its folder."
        />
        <Field label="Organisation" name="organisation" required />
        <Field label="Your sign-in name" name="name" required />
        <Field label="Your name" name="display_name" required />
        <Field
          label="Your password"
          name="password"
          type="password"
          required
          hint="At least 12 characters."
        />
        <Field
          label="Passphrase of the root key"
          name="passphrase"
          type="password"
          hint="At least 12 characters. Without the root key file and this passphrase nothing can be opened: keep both, apart from the database's backups. Leave it empty only where the service manager holds the root key."
        />
      </Form>
    </Panel>
  );
}

function Unlock({ again }: { again: () => void }) {
  return (
    <Panel title="The vault is locked">
      <p className="mb-3">
        The service has started and waits for its root key. Nothing secret is served until then.
      </p>
      <Form
        submit={(data) =>
          result(api.POST("/api/v1/unlock", { body: { passphrase: text(data, "passphrase") } }))
        }
        label="Open the vault"
        done={again}
      >
        <Field
          label="Passphrase of the root key"
          name="passphrase"
          type="password"
          required
          autoFocus
        />
      </Form>
    </Panel>
  );
}

function SignIn({ again }: { again: () => void }) {
  const submit = (data: FormData) =>
    result(
      api.POST("/api/v1/sign-in", {
        body: {
          sign_in_name: text(data, "name"),
          password: text(data, "password"),
          organisation: text(data, "organisation") || undefined,
          channel: "console",
        },
      }),
    );
  return (
    <Panel title="Sign in to Jexlin">
      <Form submit={submit} label="Sign in" done={again}>
        <Field label="Sign-in name" name="name" required autoFocus autoComplete="username" />
        <Field
          label="Password"
          name="password"
          type="password"
          required
          autoComplete="current-password"
        />
        <Field
          label="Organisation (if there are several)"
          name="organisation"
          autoComplete="organization"
        />
      </Form>
    </Panel>
  );
}

export function Door() {
  const client = useQueryClient();
  const [remembered, remember] = useState(localStorage.getItem("signed-in") === "yes");
  const status = useQuery({
    queryKey: ["status"],
    queryFn: () => result(api.GET("/api/v1/status")),
    refetchInterval: (query) => (query.state.data?.state === "ready" ? false : 3000),
  });
  const me = useQuery({
    queryKey: ["me"],
    queryFn: () => result(api.GET("/api/v1/me")),
    // Only the service knows whether there is a session. It is not asked where nobody has signed in
    // with this browser.
    enabled: status.data?.state === "ready" && remembered,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
  });
  useEffect(() => {
    const gone = () => {
      localStorage.removeItem("signed-in");
      remember(false);
      client.removeQueries({
        predicate: (query) => query.queryKey[0] !== "status" && query.queryKey[0] !== "me",
      });
      client.setQueryData(["me"], null);
    };
    window.addEventListener("signed-out", gone);
    return () => window.removeEventListener("signed-out", gone);
  }, [client]);
  const again = () => {
    localStorage.setItem("signed-in", "yes");
    remember(true);
    void client.invalidateQueries({ queryKey: ["status"] });
    void client.resetQueries({ queryKey: ["me"] });
  };
  if (status.isPending) return <Panel title="Jexlin">Connecting …</Panel>;
  if (status.error)
    return (
      <Panel title="Jexlin">
        <Trouble error={status.error} />
      </Panel>
    );
  switch (status.data.state) {
    case "needs-setup":
      return <SetUp again={again} />;
    case "locked":
      return <Unlock again={again} />;
    case "no-database":
      return (
        <Panel title="Jexlin">
          The service is waiting for its database. This page continues by itself.
        </Panel>
      );
    case "ready":
      if (remembered && me.isPending) return <Panel title="Jexlin">Loading …</Panel>;
      if (me.error && !(me.error instanceof Problem && me.error.status === 401))
        return (
          <Panel title="Jexlin">
            <Trouble error={me.error} />
          </Panel>
        );
      return me.data ? <Shell me={me.data} /> : <SignIn again={again} />;
  }
}
