// Importing what exists, and exporting what one may see.

import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import {
  type Folder,
  type ImportItem,
  type ImportOptions,
  type ImportReport,
  type Me,
  api,
  result,
  wholeList,
  exportFile,
  fileBody,
  all,
} from "../api";
import {
  Act,
  Card,
  Choice,
  Empty,
  Field,
  Form,
  Page,
  Progress,
  Table,
  Trouble,
  When,
  keepFile,
  text,
  told,
  word,
} from "../parts";
import { atLeast } from "./access-levels";
import { ShiftTable } from "./access-preview";
import { useFolders } from "./folders";

const send = (file: File, options: ImportOptions) =>
  result(
    api.POST("/api/v1/imports", {
      params: { query: { options: JSON.stringify(options) } },
      body: fileBody(file),
    }),
  );

const counted = (count: number, what: string) => `${count} ${what}${count === 1 ? "" : "s"}`;

/** What was wrong with which row, as a file (RFC 4180); no value is in it. */
function problemsOf(report: ImportReport): Blob {
  const cell = (value: string | number) => `"${String(value).replaceAll('"', '""')}"`;
  const lines = report.problems.map((it) => [it.line, it.column, it.problem].map(cell).join(","));
  return new Blob([["line,column,problem", ...lines, ""].join("\r\n")], { type: "text/csv" });
}

/** How far an import is that is under way. */
function ImportProgress({ id }: { id: string }) {
  const progress = useQuery({
    queryKey: ["import-progress", id],
    queryFn: () =>
      result(api.GET("/api/v1/imports/{import}/progress", { params: { path: { import: id } } })),
    refetchInterval: 500,
    retry: false,
    gcTime: 0,
  });
  const { done, rows } = progress.data ?? { done: 0, rows: 0 };
  return (
    <p className="flex items-center gap-2" role="status">
      <Progress label="Rows imported" value={done} of={rows || undefined} />
      {rows > 0 ? `${done} of ${rows} rows` : "Reading the file …"}
    </p>
  );
}

const ENCODINGS: [string, string][] = [
  "UTF-8",
  "windows-1252",
  "ISO-8859-2",
  "ISO-8859-15",
  "UTF-16LE",
  "UTF-16BE",
  "macintosh",
  "Shift_JIS",
  "GBK",
].map((name) => [name, name]);
const SEPARATORS: [string, string][] = [
  ["comma", "comma"],
  ["semicolon", "semicolon"],
  ["tab", "tab"],
  ["bar", "bar |"],
];

/** How the file was read; each can be chosen instead. */
function ReadAs({
  report,
  options,
  set,
}: {
  report: ImportReport;
  options: ImportOptions;
  set: (options: ImportOptions) => void;
}) {
  const as = report.read_as;
  // What is chosen here may give the file other columns.
  const choose = (chosen: Partial<ImportOptions>) => set({ ...options, ...chosen, columns: null });
  const encodings = ENCODINGS.some(([name]) => name === as.encoding)
    ? ENCODINGS
    : [...ENCODINGS, [as.encoding ?? "", as.encoding ?? ""] as [string, string]];
  return (
    <fieldset>
      <legend className="font-medium">How the file is read</legend>
      <div className="grid gap-2 sm:grid-cols-2 lg:grid-cols-3">
        {as.encoding && (
          <Choice
            label="Encoding"
            name="encoding"
            value={as.encoding}
            onChange={(event) => choose({ encoding: event.target.value })}
            options={encodings}
          />
        )}
        {as.separator && (
          <Choice
            label="Separator"
            name="separator"
            value={as.separator}
            onChange={(event) =>
              choose({ separator: event.target.value as ImportOptions["separator"] })
            }
            options={SEPARATORS}
          />
        )}
        {as.sheets.length > 0 && (
          <Choice
            label="Sheet"
            name="sheet"
            value={as.sheet ?? ""}
            onChange={(event) => choose({ sheet: event.target.value })}
            options={as.sheets.map((sheet) => [sheet, sheet])}
          />
        )}
        {as.heading_row !== null && (
          <Field
            label="Line of the headings (0 if none)"
            name="heading-row"
            type="number"
            min={0}
            value={as.heading_row}
            onChange={(event) => choose({ heading_row: event.target.valueAsNumber || 0 })}
          />
        )}
      </div>
    </fieldset>
  );
}

/** What would not be taken exactly as it stands in the file. */
function Changes({
  report,
  options,
  set,
}: {
  report: ImportReport;
  options: ImportOptions;
  set: (options: ImportOptions) => void;
}) {
  if (report.changes.length === 0) return null;
  return (
    <>
      <Table label="Not taken as it is" heads={["Column", "Change", "Rows", "Lines"]}>
        {report.changes.map((each) => (
          <tr key={`${each.column} ${each.change}`}>
            <td>{each.column}</td>
            <td>{each.change}</td>
            <td className="tabular-nums">{each.rows === 0 ? "all" : each.rows}</td>
            <td className="tabular-nums">
              {each.lines.slice(0, 5).join(", ")}
              {each.rows > 5 && " …"}
            </td>
          </tr>
        ))}
      </Table>
      <label>
        <input
          type="checkbox"
          className="checkbox checkbox-sm"
          checked={options.accept_changes}
          onChange={(event) => set({ ...options, accept_changes: event.target.checked })}
        />{" "}
        Accept these changes
      </label>
    </>
  );
}

/** What would happen with the file, the columns to be set right, and the button. */
function Look({
  file,
  options,
  set,
  clear,
}: {
  file: File;
  options: ImportOptions;
  set: (options: ImportOptions) => void;
  clear: () => void;
}) {
  const client = useQueryClient();
  const kinds = useQuery({
    queryKey: ["kinds"],
    queryFn: () => wholeList(api.GET("/api/v1/kinds")),
  });
  const preview = useQuery({
    queryKey: ["import", file.name, file.lastModified, options],
    queryFn: () => send(file, { ...options, preview: true }),
    retry: false,
    gcTime: 0,
    placeholderData: (before) => before,
  });
  const bringIn = useMutation({
    mutationFn: (id: string) => send(file, { ...options, id }),
    onSuccess: async (report) => {
      told(
        report.sentence,
        report.done
          ? () =>
              result(
                api.POST("/api/v1/imports/{import}/undo", {
                  params: { path: { import: report.id } },
                }),
              )
          : undefined,
        "Undo import",
      );
      await Promise.all(
        ["imports", "credentials", "folders", "bin"].map((key) =>
          client.invalidateQueries({ queryKey: [key] }),
        ),
      );
      if (report.done) clear();
    },
  });
  const report = preview.data;
  if (!report)
    return preview.error ? (
      <Trouble error={preview.error} />
    ) : (
      <p role="status">Reading the file …</p>
    );
  // Where a column says the kind of each, a column may be a field of any of them.
  const several = report.columns.some((column) => column.holds === "kind");
  const known = (kinds.data ?? []).filter(
    (kind) => kind.name === options.kind || (several && !kind.retired),
  );
  known.sort(
    (one, other) => Number(other.name === options.kind) - Number(one.name === options.kind),
  );
  const fields = known
    .flatMap((kind) => kind.fields)
    .filter((field, at, every) => every.findIndex((other) => other.name === field.name) === at);
  const holds: [string, string][] = [
    ["-", "left out"],
    ["name", "Name"],
    ["folder", "Folder"],
    ["tags", "Tags"],
    ["device", "Device"],
    ["device_type", "Type of the device"],
    ["device_address", "Address of the device"],
    ["kind", "Kind"],
    ...fields.map((field): [string, string] => [field.name, field.label]),
  ];
  const column = (at: number, value: string) =>
    set({
      ...options,
      columns: report.columns.map((each, number) => (number === at ? value : each.holds)),
    });
  const many = report.problems.length > 100;
  return (
    <div className="mt-2 flex flex-col gap-2 border-t border-base-300 pt-2">
      <Trouble error={preview.error} />
      <p className="quiet text-sm">
        {counted(report.rows, "row")}
        {report.notes.map((note) => `; ${note}`)}
      </p>
      <ReadAs report={report} options={options} set={set} />
      <fieldset>
        <legend className="font-medium">Columns</legend>
        <div className="grid gap-2 sm:grid-cols-2 lg:grid-cols-3">
          {report.columns.map((each, at) => (
            <Choice
              key={`${at} ${each.head}`}
              label={each.head || `column ${at + 1}`}
              name={`column-${at}`}
              value={each.holds}
              onChange={(event) => column(at, event.target.value)}
              options={holds}
            />
          ))}
        </div>
        {report.ambiguous.map((each) => (
          <p key={each.holds} className="text-warning" role="alert">
            {`The columns “${each.heads.join("” and “")}” all look like `}
            {holds.find(([name]) => name === each.holds)?.[1] ?? each.holds}.{" "}
            <button
              type="button"
              className="link"
              onClick={() =>
                set({ ...options, columns: report.columns.map((column) => column.holds) })
              }
            >
              Import the columns as chosen above
            </button>
          </p>
        ))}
      </fieldset>
      <div className="grid gap-2 sm:grid-cols-2">
        <Choice
          label="If it exists already"
          name="matching"
          value={options.matching}
          onChange={(event) =>
            set({ ...options, matching: event.target.value as ImportOptions["matching"] })
          }
          options={[
            ["skip", "skip it"],
            ["update", "update it"],
            ["duplicate", "add it again"],
          ]}
        />
        <Choice
          label="Match by"
          name="key"
          value={options.key}
          onChange={(event) => set({ ...options, key: event.target.value as ImportOptions["key"] })}
          options={[
            ["name", "its name"],
            ["user_name", "its user name"],
            ["url", "its URL"],
          ]}
        />
      </div>
      <p className="font-medium" role="status">
        {report.sentence}
      </p>
      {report.access && (
        <div>
          <p className="text-sm">Tags change that grants depend on.</p>
          <ShiftTable preview={report.access} />
        </div>
      )}
      {report.problems.length > 0 && (
        <>
          <Table label="Rows that cannot be imported" heads={["Line", "Column", "Problem"]}>
            {report.problems.slice(0, 100).map((problem) => (
              <tr key={`${problem.line} ${problem.column}`}>
                <td className="tabular-nums">{problem.line}</td>
                <td>{problem.column}</td>
                <td>{problem.problem}</td>
              </tr>
            ))}
          </Table>
          <p className="quiet text-sm">
            {many && `These are the first hundred of ${report.problems.length}. `}
            <button
              type="button"
              className="link"
              onClick={() => keepFile(problemsOf(report), "not-brought-in.csv")}
            >
              Save the list as a file
            </button>
          </p>
          <label>
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              checked={options.only_good}
              onChange={(event) => set({ ...options, only_good: event.target.checked })}
            />{" "}
            Import the valid rows only
          </label>
        </>
      )}
      <Changes report={report} options={options} set={set} />
      {bringIn.isPending && <ImportProgress id={bringIn.variables} />}
      <Trouble error={bringIn.error} />
      <div className="flex gap-2">
        <button
          type="button"
          className="btn btn-primary btn-sm"
          disabled={
            bringIn.isPending ||
            report.added + report.updated === 0 ||
            report.ambiguous.length > 0 ||
            (report.changes.length > 0 && !options.accept_changes) ||
            (report.problems.length > 0 && !options.only_good)
          }
          onClick={() => bringIn.mutate(crypto.randomUUID())}
        >
          {bringIn.isPending ? "Importing …" : `Import ${report.added + report.updated}`}
        </button>
        <button type="button" className="btn btn-sm" onClick={clear} disabled={bringIn.isPending}>
          Cancel
        </button>
      </div>
    </div>
  );
}

function BringIn({ folders }: { folders: Folder[] }) {
  const kinds = useQuery({
    queryKey: ["kinds"],
    queryFn: () => wholeList(api.GET("/api/v1/kinds")),
  });
  const [file, setFile] = useState<File | null>(null);
  const [options, setOptions] = useState<ImportOptions>({
    id: "00000000-0000-0000-0000-000000000000",
    name: "",
    format: null,
    encoding: null,
    separator: null,
    sheet: null,
    heading_row: null,
    folder: "",
    kind: "login",
    columns: null,
    key: "name",
    matching: "skip",
    only_good: false,
    accept_changes: false,
    preview: false,
  });
  const edits = folders.filter((folder) => atLeast(folder.level, "edit"));
  const into = options.folder || (edits[0]?.id ?? "");
  if (edits.length === 0) return <Empty>There is no folder that you may change.</Empty>;
  return (
    <div className="flex flex-col gap-2">
      <p>
        CSV, TSV, JSON, XLSX, or the Credential Exchange Format. The file is held in memory only,
        and nothing is changed until you press Import.
      </p>
      <div className="grid gap-2 sm:grid-cols-2">
        <Choice
          label="Into"
          name="into"
          value={into}
          onChange={(event) => setOptions({ ...options, folder: event.target.value })}
          options={edits.map((folder) => [folder.id, folder.path])}
        />
        <Choice
          label="Default kind"
          name="kind"
          value={options.kind}
          onChange={(event) => setOptions({ ...options, kind: event.target.value, columns: null })}
          options={(kinds.data ?? [])
            .filter((kind) => !kind.retired)
            .map((kind) => [kind.name, kind.label])}
        />
      </div>
      <Field
        label="File"
        name="file"
        type="file"
        className="file-input file-input-sm w-full"
        accept=".csv,.tsv,.txt,.json,.jsonl,.xlsx"
        onChange={(event) => {
          const chosen = event.target.files?.[0] ?? null;
          setFile(chosen);
          setOptions({
            ...options,
            name: chosen?.name ?? "",
            encoding: null,
            separator: null,
            sheet: null,
            heading_row: null,
            columns: null,
            only_good: false,
            accept_changes: false,
          });
        }}
      />
      {file && (
        <Look
          file={file}
          options={{ ...options, folder: into }}
          set={setOptions}
          clear={() => setFile(null)}
        />
      )}
    </div>
  );
}

function Imports() {
  const imports = useQuery({
    queryKey: ["imports"],
    queryFn: () => all((query) => api.GET("/api/v1/imports", { params: { query } })),
  });
  const undo = (item: ImportItem) => async () => {
    const undone = await result(
      api.POST("/api/v1/imports/{import}/undo", { params: { path: { import: item.id } } }),
    );
    told(
      `Moved to the bin: ${counted(undone.removed, "credential")}, ${counted(undone.devices, "device")}, ${counted(undone.folders, "empty folder")}. Restored: ${undone.restored}. Left unchanged: ${undone.left} (changed since, or moved to where you are not a steward).`,
    );
  };
  if (imports.data?.length === 0)
    return <Empty>Nothing has been imported where you may change things.</Empty>;
  return (
    <>
      <Trouble error={imports.error} />
      <Table label="Imports" heads={["File", "By", "Added", "Updated", "Actions"]}>
        {imports.data?.map((item) => (
          <tr key={item.id}>
            <td>
              {item.name}
              <span className="quiet block text-sm">into {item.place}</span>
            </td>
            <td>
              {item.made_by}
              <span className="quiet block text-sm">
                <When at={item.made_at} />
              </span>
            </td>
            <td className="tabular-nums">{item.added}</td>
            <td className="tabular-nums">{item.updated}</td>
            <td>
              {item.undone_at ? (
                <span className="quiet">
                  undone <When at={item.undone_at} />
                </span>
              ) : (
                <Act
                  label="Undo import"
                  of={item.name}
                  look="btn-xs"
                  run={undo(item)}
                  after={["imports", "credentials", "bin"]}
                  confirm={`Undo the import of ${item.name}? ${item.added} added credentials go to the bin, ${item.updated} updated credentials are restored.`}
                />
              )}
            </td>
          </tr>
        ))}
      </Table>
    </>
  );
}

function ExportForm({ me, folders }: { me: Me; folders: Folder[] }) {
  const [way, setWay] = useState("recipients");
  const ways: [string, string][] = [
    ["recipients", "Encrypted for age keys"],
    ["passphrase", "encrypted with a passphrase"],
    ...(me.duties.includes("export") ? [["plain", "not encrypted"] as [string, string]] : []),
  ];
  const submit = async (data: FormData) => {
    const out = await exportFile({
      folder: text(data, "folder") || null,
      format: word<"exchange" | "csv">(data, "format"),
      recipients: way === "recipients" ? text(data, "recipients").split(/\s+/).filter(Boolean) : [],
      passphrase: way === "passphrase" ? text(data, "passphrase") : null,
      plain: way === "plain",
      reason: text(data, "reason"),
    });
    keepFile(
      out.file,
      `export.${text(data, "format") === "csv" ? "csv" : "json"}${way === "plain" ? "" : ".age"}`,
    );
    told(
      `Credentials exported: ${out.taken}.${out.leftOut === "0" ? "" : ` Left out, behind a gate: ${out.leftOut}.`}`,
    );
  };
  return (
    <Form label="Export" submit={submit} keep>
      <p>
        Exports everything that you may reveal. Each exported credential is recorded in the audit
        log. Open the file with any age program.
      </p>
      <div className="grid gap-2 sm:grid-cols-2">
        <Choice
          label="From"
          name="folder"
          options={[
            ["", "everywhere"],
            ...folders
              .filter((folder) => folder.level)
              .map((folder): [string, string] => [folder.id, folder.path]),
          ]}
        />
        <Choice
          label="Format"
          name="format"
          options={[
            ["exchange", "exchange format (JSON)"],
            ["csv", "CSV"],
          ]}
        />
      </div>
      <Choice
        label="Protection"
        name="way"
        value={way}
        onChange={(event) => setWay(event.target.value)}
        options={ways}
      />
      {way === "recipients" && <Field label="Recipients (age1…)" name="recipients" required />}
      {way === "passphrase" && (
        <Field
          label="Passphrase"
          name="passphrase"
          type="password"
          autoComplete="new-password"
          minLength={12}
          required
          hint="At least 12 characters. The file cannot be opened without it."
        />
      )}
      <Field
        label="Reason"
        name="reason"
        required={way === "plain"}
        hint={
          way === "plain"
            ? "Anybody who finds the file can read everything in it. You must have signed in within the last five minutes."
            : undefined
        }
      />
    </Form>
  );
}

export function Transfer({ me }: { me: Me }) {
  const folders = useFolders();
  return (
    <Page title="Import and export">
      <Trouble error={folders.error} />
      {folders.data && (
        <div className="grid items-start gap-3 xl:grid-cols-[3fr_2fr]">
          <Card title="Import">
            <BringIn folders={folders.data} />
          </Card>
          <div className="flex flex-col gap-3">
            <Card title="Export">
              <ExportForm me={me} folders={folders.data} />
            </Card>
            <Card title="Imports">
              <Imports />
            </Card>
          </div>
        </div>
      )}
    </Page>
  );
}
