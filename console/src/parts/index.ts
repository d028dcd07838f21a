// The parts that every page is made of, each in a file of its own. The data table comes with the pages
// that have one.

export { Act } from "./act";
export { Card, Count } from "./card";
export { Empty, Skeleton } from "./empty";
export { Choice, Field, Lines, text, word } from "./field";
export { keepFile } from "./file";
export { Form } from "./form";
export { Menu, type MenuAction } from "./menu";
export { Ask, Drawer, DrawerButton, Leaving } from "./overlay";
export { Crumbs, Page } from "./page";
export { Pane } from "./panes";
export { State } from "./state";
export { Table } from "./table";
export { type Tab, Tabs, useQueryPart } from "./tabs";
export { KindIcon } from "./kind-icon";
export { CredentialLink, DeviceLink, FolderLink, PersonLink } from "./links";
export { Progress, type Step, Steps } from "./progress";
export { CodeText, SecretText } from "./secret";
export { Ago, Left, When, useNow } from "./time";
export { Told, told } from "./toast";
export { Trouble } from "./trouble";
export { Words } from "./words";
