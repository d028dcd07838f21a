// Search from everywhere: pages and actions, credentials, folders, devices, people and groups.

import { Autocomplete } from "@base-ui/react/autocomplete";
import { Dialog } from "@base-ui/react/dialog";
import { useQuery } from "@tanstack/react-query";
import {
  ArrowRight,
  Folder as FolderIcon,
  Search as Magnifier,
  Server,
  User,
  Users,
} from "lucide-react";
import { type ReactNode, useDeferredValue, useState } from "react";
import { useLocation } from "wouter";
import { type Me, all, api, result } from "./api";
import { placesFor } from "./pages";
import { KindIcon } from "./parts/kind-icon";
import { useFolders } from "./features/folders";

interface Found {
  id: string;
  name: string;
  note: string;
  icon: ReactNode;
  to: string;
}
interface Group {
  value: string;
  items: Found[];
}

const MOST = 8;
const MARK = "size-4 shrink-0";

function useFound(me: Me, typed: string, open: boolean): Group[] {
  const wanted = useDeferredValue(typed.trim());
  const asks = open && wanted.length > 1;
  const credentials = useQuery({
    queryKey: ["find", wanted],
    queryFn: () =>
      result(api.GET("/api/v1/credentials", { params: { query: { limit: MOST, find: wanted } } })),
    enabled: asks,
    placeholderData: (before) => before,
  });
  const folders = useFolders(open);
  const devices = useQuery({
    queryKey: ["devices"],
    queryFn: () => all((page) => api.GET("/api/v1/devices", { params: { query: page } })),
    enabled: open,
  });
  const people = useQuery({
    queryKey: ["people"],
    queryFn: () => all((page) => api.GET("/api/v1/people", { params: { query: page } })),
    enabled: open,
  });
  const groups = useQuery({
    queryKey: ["groups"],
    queryFn: () => all((page) => api.GET("/api/v1/groups", { params: { query: page } })),
    enabled: open,
  });
  const words = wanted.toLowerCase().split(/\s+/).filter(Boolean);
  const fits = (text: string) => words.every((word) => text.toLowerCase().includes(word));
  const some = <T,>(items: T[] | undefined, text: (item: T) => string) =>
    words.length === 0 ? [] : (items ?? []).filter((item) => fits(text(item))).slice(0, MOST);
  // Until the answer to what is typed comes, only those of the last one that fit it, too: Enter must
  // not open what no longer matches.
  const late = credentials.isPlaceholderData;
  const listed = (asks ? (credentials.data?.items ?? []) : []).filter(
    (item) => !late || fits(`${item.place} ${item.name} ${item.user_name} ${item.device ?? ""}`),
  );
  const found: Group[] = [
    {
      value: "Credentials",
      items: listed.map((item) => ({
        id: item.id,
        name: item.name,
        note: item.place,
        icon: <KindIcon kind={item.kind} />,
        to: `/vault/${item.folder}/${item.id}`,
      })),
    },
    {
      value: "Folders",
      items: some(folders.data, (folder) => folder.path).map((folder) => ({
        id: folder.id,
        name: folder.name,
        note: folder.path,
        icon: <FolderIcon className={MARK} aria-hidden="true" />,
        to: `/vault/${folder.id}`,
      })),
    },
    {
      value: "Devices",
      items: some(devices.data, (device) => `${device.place} ${device.name} ${device.address}`).map(
        (device) => ({
          id: device.id,
          name: device.name,
          note: `${device.place}, ${device.address}`,
          icon: <Server className={MARK} aria-hidden="true" />,
          to: `/devices/${device.id}`,
        }),
      ),
    },
    {
      value: "People and groups",
      items: [
        ...some(people.data, (person) => `${person.display_name} ${person.sign_in_name}`).map(
          (person) => ({
            id: person.id,
            name: person.display_name,
            note: person.sign_in_name,
            icon: <User className={MARK} aria-hidden="true" />,
            to: `/people/${person.id}`,
          }),
        ),
        ...some(groups.data, (group) => group.name).map((group) => ({
          id: group.id,
          name: group.name,
          note: "group",
          icon: <Users className={MARK} aria-hidden="true" />,
          to: "/people?tab=groups",
        })),
      ],
    },
    {
      value: "Pages",
      items: placesFor(me)
        .filter((place) => fits(place.label))
        .map((place) => ({
          id: place.path,
          name: place.label,
          note: place.key ? `Alt ${place.key}` : "",
          icon: <place.icon className={MARK} aria-hidden="true" />,
          to: place.path,
        })),
    },
  ];
  return found.filter((group) => group.items.length > 0);
}

export function Search({ me, open, close }: { me: Me; open: boolean; close: () => void }) {
  const [, go] = useLocation();
  const [typed, setTyped] = useState("");
  const found = useFound(me, typed, open);
  const choose = (to: string) => {
    close();
    setTyped("");
    go(to);
  };
  return (
    <Dialog.Root open={open} onOpenChange={(next) => !next && close()}>
      <Dialog.Portal>
        <Dialog.Backdrop className="fixed inset-0 z-30 bg-neutral/40" />
        <Dialog.Popup
          aria-label="Search"
          className="fixed top-[9dvh] left-1/2 z-40 w-[min(40rem,94vw)] -translate-x-1/2 rounded-box border border-base-300 bg-base-100 outline-none"
        >
          <Autocomplete.Root
            open
            inline
            items={found}
            value={typed}
            onValueChange={setTyped}
            mode="none"
            autoHighlight="always"
            keepHighlight
            itemToStringValue={(item: Found) => item.name}
          >
            <div className="flex items-center gap-2 border-b border-base-300 px-3">
              <Magnifier className="quiet size-4" aria-hidden="true" />
              <Autocomplete.Input
                aria-label="Search"
                placeholder="Credentials, folders, devices, people, pages"
                className="h-11 grow bg-transparent outline-none"
              />
              <Dialog.Close className="btn btn-xs">Esc</Dialog.Close>
            </div>
            <Autocomplete.Empty>
              <p className="quiet px-3 py-3 empty:hidden">
                {typed.trim().length > 1 ? "Nothing matches." : ""}
              </p>
            </Autocomplete.Empty>
            <Autocomplete.List className="max-h-[60dvh] overflow-y-auto p-1">
              {(group: Group) => (
                <Autocomplete.Group key={group.value} items={group.items} className="pb-1">
                  <Autocomplete.GroupLabel className="quiet px-2 pt-2 pb-1 text-xs font-semibold">
                    {group.value}
                  </Autocomplete.GroupLabel>
                  <Autocomplete.Collection>
                    {(item: Found) => (
                      <Autocomplete.Item
                        key={item.id}
                        value={item}
                        onClick={() => choose(item.to)}
                        className="group flex cursor-pointer items-center gap-2 rounded-field px-2 py-1.5 data-highlighted:bg-secondary"
                      >
                        {item.icon}
                        <span className="font-medium">{item.name}</span>
                        <span className="quiet grow truncate">{item.note}</span>
                        <ArrowRight
                          className="size-4 opacity-0 group-data-highlighted:opacity-100"
                          aria-hidden="true"
                        />
                      </Autocomplete.Item>
                    )}
                  </Autocomplete.Collection>
                </Autocomplete.Group>
              )}
            </Autocomplete.List>
          </Autocomplete.Root>
        </Dialog.Popup>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
