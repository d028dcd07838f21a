// The choice of a folder by a part of its path: there may be a hundred thousand.

import { useDeferredValue, useId, useMemo, useState } from "react";
import { Field } from "../parts";
import { atLeast } from "./access-levels";
import { useFolders } from "./folders";

/** The most folders that are offered at once. */
const OFFERED = 50;

/** A field for a folder that something may be put into; its identifier is in the field `folder`. */
export function FolderField({
  label,
  start,
  chosen,
}: {
  label: string;
  /** The one that is chosen at first, whatever may be put there. */
  start?: string | undefined;
  chosen?: (folder: string | undefined) => void;
}) {
  const folders = useFolders();
  const list = useId();
  const usable = useMemo(
    () => (folders.data ?? []).filter((each) => each.id === start || atLeast(each.level, "edit")),
    [folders.data, start],
  );
  const [typed, setTyped] = useState<string>();
  const path = typed ?? usable.find((each) => each.id === start)?.path ?? "";
  const of = (text: string) => usable.find((each) => each.path === text)?.id;
  const words = useDeferredValue(path.toLowerCase());
  const offered = useMemo(() => {
    const found = [];
    for (const each of usable) {
      if (each.path.toLowerCase().includes(words)) found.push(each.path);
      if (found.length === OFFERED) break;
    }
    return found;
  }, [usable, words]);
  return (
    <>
      <Field
        label={label}
        name="folder path"
        list={list}
        value={path}
        required
        placeholder="A part of its path"
        check={(text) => (of(text) || !text ? "" : "Choose one of the folders.")}
        onFocus={(event) => event.currentTarget.select()}
        onChange={(event) => {
          setTyped(event.target.value);
          chosen?.(of(event.target.value));
        }}
      />
      <datalist id={list}>
        {offered.map((each) => (
          <option key={each}>{each}</option>
        ))}
      </datalist>
      <input type="hidden" name="folder" value={of(path) ?? ""} />
    </>
  );
}
