// A menu: rare actions behind one button.

import { Menu as Base } from "@base-ui/react/menu";
import type { LucideIcon } from "lucide-react";
import type { ReactNode } from "react";

export interface MenuAction {
  label: string;
  icon?: LucideIcon;
  run: () => void;
  danger?: boolean;
  checked?: boolean;
}

export function Menu({
  label,
  trigger,
  look = "btn-ghost btn-sm btn-square",
  head,
  groups,
}: {
  /** What a screen reader hears, where the button has no words. */
  label?: string;
  trigger: ReactNode;
  look?: string;
  head?: ReactNode;
  groups: MenuAction[][];
}) {
  return (
    <Base.Root>
      <Base.Trigger className={`btn ${look}`} {...(label && { "aria-label": label })}>
        {trigger}
      </Base.Trigger>
      <Base.Portal>
        <Base.Positioner sideOffset={4} align="end" className="z-50 outline-none">
          <Base.Popup className="min-w-48 rounded-box border border-base-300 bg-base-100 py-1 outline-none">
            {head}
            {groups
              .filter((group) => group.length > 0)
              .map((group, at) => (
                <Base.Group
                  key={group[0]?.label}
                  className={at > 0 || head ? "border-t border-base-300 py-1" : "pb-1"}
                >
                  {group.map((action) => (
                    <Base.Item
                      key={action.label}
                      onClick={action.run}
                      className={`flex cursor-pointer items-center gap-2 px-3 py-1.5 outline-none data-highlighted:bg-secondary ${action.danger ? "text-error" : ""}`}
                    >
                      {action.icon && <action.icon className="size-4" aria-hidden="true" />}
                      <span className="grow">{action.label}</span>
                      {action.checked && <span aria-label="chosen">✓</span>}
                    </Base.Item>
                  ))}
                </Base.Group>
              ))}
          </Base.Popup>
        </Base.Positioner>
      </Base.Portal>
    </Base.Root>
  );
}
