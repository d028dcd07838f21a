// The vault: the tree, the list of a folder, and one credential. On a phone one of them at a time.

import { useQuery } from "@tanstack/react-query";
import { ArrowLeft, FolderTree, Plus, Trash2, UserLock } from "lucide-react";
import { useState } from "react";
import { Link } from "wouter";
import { type Me, api, result } from "../api";
import { Drawer, DrawerButton, Empty, Menu, Pane, Skeleton, Trouble } from "../parts";
import { atLeast } from "./access-levels";
import { Detail } from "./credential";
import { AddCredential } from "./credential-forms";
import { Items } from "./credential-list";
import { AddDevice } from "./add-device";
import { AddFolder, FolderDetail } from "./folder";
import { Tree } from "./folder-tree";
import { useFolders } from "./folders";

export function Vault({
  me,
  folder: named,
  credential,
}: {
  me: Me;
  folder: string | undefined;
  credential: string | undefined;
}) {
  const [adding, setAdding] = useState<"folder" | "device" | "top" | null>(null);
  const [folding, setFolding] = useState(false);
  const folders = useFolders();
  const settings = useQuery({
    queryKey: ["settings"],
    queryFn: () => result(api.GET("/api/v1/settings")),
    staleTime: 300_000,
  });
  const one = useQuery({
    queryKey: ["credential", credential],
    queryFn: () =>
      result(
        api.GET("/api/v1/credentials/{credential}", {
          params: { path: { credential: credential ?? "" } },
        }),
      ),
    enabled: Boolean(credential),
  });
  const folder = named === "-" ? one.data?.folder : named;
  const here = folders.data?.find((each) => each.id === folder);
  const edits = atLeast(here?.level, "edit");
  const adds = me.duties.includes("folders") || settings.data?.settings.adds_at_top === true;
  const tree = (
    <>
      {folders.data?.length === 0 && <Empty>You have no access to a folder yet.</Empty>}
      <Tree folders={folders.data ?? []} open={folder} />
      <div className="mt-auto border-t border-base-300 px-2 py-1">
        <Link
          href="/personal"
          className="flex h-7 items-center gap-2 rounded-field px-2 hover:bg-base-200"
        >
          <UserLock className="size-4" aria-hidden="true" />
          Personal
        </Link>
        <Link
          href="/bin"
          className="flex h-7 items-center gap-2 rounded-field px-2 hover:bg-base-200"
        >
          <Trash2 className="size-4" aria-hidden="true" />
          Bin
        </Link>
      </div>
    </>
  );
  const tools = (
    <>
      <button
        type="button"
        className="btn btn-sm btn-square md:hidden"
        aria-label="Folders"
        onClick={() => setFolding(true)}
      >
        <FolderTree className="size-4" aria-hidden="true" />
      </button>
      {here && edits && (
        <DrawerButton
          label="Add"
          more="a credential"
          title="Add a credential"
          look="btn-sm btn-primary"
          icon={<Plus className="size-4" aria-hidden="true" />}
          note={`In ${here.path}`}
        >
          {(close) => <AddCredential here={here} close={close} />}
        </DrawerButton>
      )}
      {((here && edits) || adds) && (
        <Menu
          label="Add something else"
          trigger={<Plus className="size-4" aria-hidden="true" />}
          look={here && edits ? "btn-sm btn-square" : "btn-sm btn-square btn-primary"}
          groups={[
            [
              ...(here && edits
                ? [
                    { label: "Add a folder here", run: () => setAdding("folder") },
                    { label: "Add a device", run: () => setAdding("device") },
                  ]
                : []),
              ...(adds ? [{ label: "Add a folder at the top", run: () => setAdding("top") }] : []),
            ],
          ]}
        />
      )}
    </>
  );
  const detail = credential ? (
    <>
      <Trouble error={one.error} />
      {!one.data && !one.error && <Skeleton rows={8} />}
      {one.data && <Detail key={one.data.id} me={me} it={one.data} />}
    </>
  ) : here ? (
    <FolderDetail key={here.id} me={me} here={here} folders={folders.data ?? []} />
  ) : (
    <Empty>Choose a credential from the list, or press Ctrl K and type a part of its name.</Empty>
  );
  return (
    <div className="flex h-full min-h-0">
      <h1 className="sr-only">Vault</h1>
      <Pane
        name="tree"
        label="the folders"
        first={224}
        least={140}
        most={480}
        className="bg-base-100 max-md:hidden"
      >
        <Trouble error={folders.error} />
        {tree}
      </Pane>
      <Pane
        name="list"
        label="the list"
        first={320}
        least={220}
        most={640}
        className={`bg-base-100 max-md:w-full! ${credential ? "max-md:hidden" : ""}`}
      >
        <Items folder={folder} open={credential} name={here?.name} tools={tools} />
      </Pane>
      <div
        className={`min-w-0 grow overflow-y-auto bg-base-100 p-5 max-sm:p-3 ${credential ? "" : "max-md:hidden"}`}
      >
        {credential && (
          <Link
            href={`/vault/${folder ?? ""}`}
            className="link mb-2 flex items-center gap-1 md:hidden"
          >
            <ArrowLeft className="size-4" aria-hidden="true" />
            {here?.name ?? "Vault"}
          </Link>
        )}
        {detail}
      </div>
      <Drawer title="Folders" open={folding} close={() => setFolding(false)}>
        {tree}
      </Drawer>
      <Drawer
        title={adding === "device" ? "Add a device" : "Add a folder"}
        note={adding === "top" || !here ? "At the top" : `In ${here.path}`}
        open={adding !== null}
        close={() => setAdding(null)}
      >
        {adding === "device" && here ? (
          <AddDevice folder={here.id} close={() => setAdding(null)} />
        ) : (
          <AddFolder
            parent={adding === "folder" ? here : undefined}
            close={() => setAdding(null)}
          />
        )}
      </Drawer>
    </div>
  );
}
