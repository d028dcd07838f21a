// The vault: the tree, the list of a folder, and one credential.

import { useQuery } from "@tanstack/react-query";
import { type Me, api, result, wholeList } from "../api";
import { Card, Empty, Trouble } from "../components";
import { Detail } from "./credential";
import { FolderDetail, FolderTools } from "./folder";
import { Items } from "./credential-list";
import { Tree } from "./folder-tree";

export function Vault({
  me,
  folder: named,
  credential,
}: {
  me: Me;
  folder: string | undefined;
  credential: string | undefined;
}) {
  const folders = useQuery({
    queryKey: ["folders"],
    queryFn: () => wholeList(api.GET("/api/v1/folders")),
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
  return (
    <>
      <h1 className="sr-only">Vault</h1>
      <Trouble error={folders.error} />
      <div className="grid grow items-start gap-3 md:grid-cols-[14rem_1fr] xl:grid-cols-[15rem_22rem_1fr]">
        <Card title="Folders">
          {folders.data?.length === 0 && <Empty>You have no access to a folder yet.</Empty>}
          <Tree folders={folders.data ?? []} open={folder} />
          <FolderTools me={me} here={here} />
        </Card>
        <Card title={here ? `In ${here.name}` : "All credentials"}>
          <Items folder={folder} open={credential} />
        </Card>
        <div className="min-w-0 md:col-span-2 xl:col-span-1">
          {credential ? (
            <>
              <Trouble error={one.error} />
              {one.data && <Detail key={one.data.id} me={me} it={one.data} />}
            </>
          ) : here ? (
            <FolderDetail key={here.id} me={me} here={here} folders={folders.data ?? []} />
          ) : (
            <Card title="No credential is open">
              <Empty>
                Choose a credential from the list, or press Ctrl K and type a part of its name.
              </Empty>
            </Card>
          )}
        </div>
      </div>
    </>
  );
}
