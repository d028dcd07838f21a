// Panes beside each other, whose widths somebody chooses by mouse or keyboard; kept in this browser.

import { type KeyboardEvent, type PointerEvent, type ReactNode, useState } from "react";

const STEP = 16;

/** A pane with a handle at its right. */
export function Pane({
  name,
  label,
  first,
  least,
  most,
  className = "",
  children,
}: {
  name: string;
  label: string;
  first: number;
  least: number;
  most: number;
  className?: string;
  children: ReactNode;
}) {
  const [width, setWidth] = useState(() => Number(localStorage.getItem(`pane ${name}`)) || first);
  const set = (next: number) => {
    const kept = Math.round(Math.min(most, Math.max(least, next)));
    localStorage.setItem(`pane ${name}`, String(kept));
    setWidth(kept);
  };
  const drag = (event: PointerEvent<HTMLDivElement>) => {
    const handle = event.currentTarget;
    const from = event.clientX;
    handle.setPointerCapture(event.pointerId);
    const moved = (next: globalThis.PointerEvent) => set(width + next.clientX - from);
    const ended = () => {
      handle.removeEventListener("pointermove", moved);
      handle.removeEventListener("pointerup", ended);
    };
    handle.addEventListener("pointermove", moved);
    handle.addEventListener("pointerup", ended);
  };
  const pressed = (event: KeyboardEvent) => {
    const by = event.key === "ArrowLeft" ? -STEP : event.key === "ArrowRight" ? STEP : 0;
    if (by) set(width + by);
  };
  return (
    <div className={`relative flex min-h-0 shrink-0 flex-col ${className}`} style={{ width }}>
      {children}
      <div
        role="separator"
        aria-orientation="vertical"
        aria-label={`Width of ${label}`}
        aria-valuenow={width}
        aria-valuemin={least}
        aria-valuemax={most}
        tabIndex={0}
        onPointerDown={drag}
        onKeyDown={pressed}
        className="absolute inset-y-0 -right-0.5 z-10 w-1 cursor-col-resize touch-none border-r border-base-300 hover:border-primary focus-visible:border-primary max-md:hidden"
      />
    </div>
  );
}
