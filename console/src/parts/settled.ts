// What was typed, once nothing more is typed for a moment: for whatever is expensive to ask, or noted
// whenever it is asked.

import { useEffect, useState } from "react";

export function useSettled(typed: string): string {
  const [settled, setSettled] = useState(typed);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(typed), 250);
    return () => clearTimeout(timer);
  }, [typed]);
  return typed ? settled : "";
}
