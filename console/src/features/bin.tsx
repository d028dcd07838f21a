// The bin: what was removed, restored in one step or purged.

import { useQuery } from "@tanstack/react-query";
import { api, result, all } from "../api";
import { Act, Card, Empty, Page, Table, Trouble, When } from "../parts";

export function Bin() {
  const bin = useQuery({
    queryKey: ["bin"],
    queryFn: () => all((page) => api.GET("/api/v1/bin", { params: { query: page } })),
  });
  const after = ["bin", "folders", "credentials", "devices"];
  return (
    <Page title="Bin">
      <Trouble error={bin.error} />
      <Card title="Removed items">
        <p className="quiet mb-2">
          Items removed from folders that you are a steward of. Items that were removed together are
          restored together.
        </p>
        {bin.data?.length === 0 && (
          <Empty>
            The bin is empty. What you remove from the vault waits here before it is purged.
          </Empty>
        )}
        {bin.data && bin.data.length > 0 && (
          <Table
            label="In the bin"
            heads={["Item", "Type", "Credentials", "Removed", "By", "Purge date", "Actions"]}
          >
            {bin.data.map((removed) => (
              <tr key={removed.id}>
                <td className="font-medium">{removed.path}</td>
                <td>{removed.target_type}</td>
                <td className="tabular-nums">{removed.credentials}</td>
                <td>
                  <When at={removed.removed_at} />
                </td>
                <td>{removed.removed_by ?? "upkeep"}</td>
                <td>{removed.purged_from ? <When at={removed.purged_from} /> : "never"}</td>
                <td className="whitespace-nowrap">
                  <Act
                    label="Restore"
                    look="btn-xs"
                    run={() =>
                      result(
                        api.POST("/api/v1/bin/{removal}/restore", {
                          params: { path: { removal: removed.id } },
                        }),
                      )
                    }
                    after={after}
                  />{" "}
                  <Act
                    label="Purge"
                    look="btn-xs btn-ghost"
                    run={() =>
                      result(
                        api.DELETE("/api/v1/bin/{removal}", {
                          params: { path: { removal: removed.id } },
                        }),
                      )
                    }
                    after={after}
                    confirm={`${removed.path} and everything in it (credentials: ${removed.credentials}), with former values and attachments, will be deleted permanently. Purge?`}
                  />
                </td>
              </tr>
            ))}
          </Table>
        )}
      </Card>
    </Page>
  );
}
