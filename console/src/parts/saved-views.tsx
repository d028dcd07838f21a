// Views of a table under names: what is sorted, filtered and shown, kept for the person by the service.

import { Popover } from "@base-ui/react/popover";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { Bookmark, Trash2 } from "lucide-react";
import { type FormEvent, useState } from "react";
import { api, result, wholeList } from "../api";
import type { TableState } from "./table-state";
import { Trouble } from "./trouble";

/** A page's name as the service takes it. */
const nameOf = (label: string) =>
  label
    .toLowerCase()
    .replaceAll(/[^a-z]+/g, "-")
    .slice(0, 40);

export function SavedViews({ label, state }: { label: string; state: TableState<never> }) {
  const [open, setOpen] = useState(false);
  const [name, setName] = useState("");
  const [error, setError] = useState<unknown>();
  const client = useQueryClient();
  const page = nameOf(label);
  const views = useQuery({
    queryKey: ["views", page],
    queryFn: () => wholeList(api.GET("/api/v1/searches", { params: { query: { page } } })),
    enabled: open,
  });
  const now = state.view();
  const change = async (act: Promise<unknown>) => {
    try {
      await act;
      setError(undefined);
      setName("");
    } catch (problem) {
      setError(problem);
    }
    await client.invalidateQueries({ queryKey: ["views", page] });
  };
  const save = (event: FormEvent) => {
    event.preventDefault();
    const filters = Object.fromEntries(new URLSearchParams(now));
    void change(result(api.POST("/api/v1/searches", { body: { name, filters, page } })));
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger className="btn btn-ghost btn-sm" aria-label="Saved views">
        <Bookmark className="size-4" aria-hidden="true" />
        <span className="max-lg:sr-only">Views</span>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Positioner sideOffset={4} align="end" className="z-50">
          <Popover.Popup className="flex w-72 flex-col gap-2 rounded-box border border-base-300 bg-base-100 p-3 outline-none">
            <Popover.Title className="font-semibold">Saved views</Popover.Title>
            {views.data?.length === 0 && (
              <p className="quiet">
                Sort, filter and choose columns, then save it here under a name.
              </p>
            )}
            <ul>
              {views.data?.map((view) => (
                <li key={view.id} className="flex items-center justify-between gap-2">
                  <button
                    type="button"
                    className="grow cursor-pointer py-1 text-left hover:underline"
                    onClick={() => {
                      state.setView(new URLSearchParams(view.filters).toString());
                      setOpen(false);
                    }}
                  >
                    {view.name}
                  </button>
                  <button
                    type="button"
                    className="btn btn-ghost btn-xs btn-square"
                    aria-label={`Remove the view ${view.name}`}
                    onClick={() =>
                      void change(
                        result(
                          api.DELETE("/api/v1/searches/{search}", {
                            params: { path: { search: view.id } },
                          }),
                        ),
                      )
                    }
                  >
                    <Trash2 className="size-3.5" aria-hidden="true" />
                  </button>
                </li>
              ))}
            </ul>
            <form className="flex gap-2" onSubmit={save}>
              <input
                className="input input-sm grow"
                aria-label="Name of the view"
                placeholder="Name"
                required
                value={name}
                onChange={(event) => setName(event.target.value)}
              />
              <button type="submit" className="btn btn-sm" disabled={!now}>
                Save
              </button>
            </form>
            {!now && views.data && views.data.length > 0 && (
              <p className="quiet text-sm">Nothing is sorted or filtered now.</p>
            )}
            <Trouble error={error ?? views.error} />
          </Popover.Popup>
        </Popover.Positioner>
      </Popover.Portal>
    </Popover.Root>
  );
}
