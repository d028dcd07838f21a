// What the help button shows: what the page is for, what to do first, and the keys.

import { useLocation } from "wouter";

const HELP: Record<string, { what: string; steps: string[] }> = {
  "": {
    what: "What waits for you, what you hold, and what needs attention.",
    steps: [
      "Answer requests here: Approve or Refuse, with a reason if you refuse.",
      "Check a password in as soon as you no longer need it.",
      "Favourites and what you used last are one click away.",
    ],
  },
  vault: {
    what: "Folders at the left, what is in them in the middle, what is open at the right.",
    steps: [
      "Ctrl K finds a credential from anywhere, by any word in its name, folder or device.",
      "R reveals the secret of the open credential, C copies it.",
      "Drag credentials and folders to move them; a preview says who gains and who loses access.",
      "“Open as table” shows all of a folder with sorting, filters and actions for many.",
    ],
  },
  credentials: {
    what: "All credentials in one table.",
    steps: [
      "Sort and filter from the heads of the columns.",
      "Save what you chose under Views; the address leads others to the same view.",
      "Select rows to tag, move or remove many at once.",
    ],
  },
  requests: {
    what: "Requests for a password behind a gate, and for access.",
    steps: [
      "Approve opens the gate for the time that was asked for.",
      "The reason that you give is recorded in the audit log.",
    ],
  },
  checkouts: {
    what: "Checkouts: who holds which password, and until when.",
    steps: [
      "Check in when you are done; the gate may rotate the password then.",
      "Recall ends the checkout of somebody else.",
    ],
  },
  devices: {
    what: "Hosts on which Jexlin checks and rotates passwords.",
    steps: [
      "Add a device with its accounts and its operator.",
      "Confirm its identity: until then no password is sent to it.",
      "The operator changes the passwords of the other accounts.",
    ],
  },
  accounts: {
    what: "Credentials that are accounts on devices, with their last check and rotation.",
    steps: [
      "Out of sync: the device does not accept the stored password. Rotate it with the operator.",
      "Select several to check or rotate them together.",
    ],
  },
  jobs: {
    what: "Checks and rotations: waiting, running and done.",
    steps: ["The message has the device’s own words.", "Try again queues a failed job anew."],
  },
  plans: {
    what: "When passwords are checked and rotated, folder by folder.",
    steps: ["Set a plan on a folder in the vault: it counts for everything below."],
  },
  findings: {
    what: "Passwords that are leaked, weak, reused, old or out of sync.",
    steps: ["Fix the leaked ones first, then those that are reused."],
  },
  audit: {
    what: "Every access and every change, signed so that nobody can alter it unnoticed.",
    steps: [
      "Filter by action, person, target and time.",
      "Export it and verify it on another machine: jexlin audit verify.",
    ],
  },
  people: {
    what: "Who can sign in, what duties they hold, and their groups.",
    steps: [
      "Open a person to see what they can access and what they have seen.",
      "When somebody leaves: Suspend, then Has seen, then Rotate.",
    ],
  },
  access: {
    what: "Access as a file, access issues, and who asked for access.",
    steps: [
      "Export the access file, keep it under version control, and compare it with what is set.",
      "Access issues name what nobody owns and grants that nobody uses.",
    ],
  },
  policies: {
    what: "What passwords must be like, and how they are generated.",
    steps: ["Try a policy before you make it the default, and set others on folders."],
  },
  "import-export": {
    what: "Bring in what exists, and take out what you may see.",
    steps: [
      "Choose a file: a preview shows what would be added and what would change.",
      "An import can be undone; delete the file afterwards.",
    ],
  },
  settings: {
    what: "The organisation’s keys, limits and kinds of credentials.",
    steps: ["Keep a copy of the root key file and its passphrase, apart from each other."],
  },
  profile: {
    what: "You: your password, your sessions, and how dates are written.",
    steps: ["End sessions that you do not recognise, then change your password."],
  },
  personal: {
    what: "A folder that only you can open, with a passphrase of your own.",
    steps: ["Nobody can recover its passphrase: keep it safe."],
  },
  bin: {
    what: "What was removed, until it is deleted for good.",
    steps: ["Restore puts a thing back where it was, with its history."],
  },
};

const SHORTCUTS: [string, string][] = [
  ["Ctrl K", "Search"],
  ["Alt and the number of a page", "Go to the page"],
  ["R", "Reveal the secret of the credential"],
  ["C", "Copy its secret"],
  ["U", "Copy its user name"],
  ["L", "Copy its connection line"],
  ["O", "Show its one-time code"],
  ["J, K", "Next and previous credential in the list"],
  ["?", "This help"],
];

export default function Help() {
  const [path] = useLocation();
  const page = HELP[path.split("/")[1] ?? ""];
  return (
    <div className="flex flex-col gap-5">
      {page && (
        <section className="flex flex-col gap-2">
          <p className="font-semibold">{page.what}</p>
          <ul className="flex list-disc flex-col gap-1 pl-5">
            {page.steps.map((step) => (
              <li key={step}>{step}</li>
            ))}
          </ul>
        </section>
      )}
      <section className="flex flex-col gap-2">
        <h3 className="font-semibold">Keyboard shortcuts</h3>
        <dl className="grid grid-cols-[auto_1fr] items-center gap-x-4 gap-y-2">
          {SHORTCUTS.map(([keys, what]) => (
            <div key={keys} className="contents">
              <dt>
                <kbd className="kbd kbd-sm">{keys}</kbd>
              </dt>
              <dd>{what}</dd>
            </div>
          ))}
        </dl>
      </section>
    </div>
  );
}
