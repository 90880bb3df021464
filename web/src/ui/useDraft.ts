import { useEffect, useState } from "react";
import { type Control, type FieldValues, useFormState, useWatch } from "react-hook-form";
import { queryClient, sessionQuery } from "../api/queries";

/** What was typed and not saved, kept in this tab until it is saved or dropped; gone at sign-out. */
export interface Draft {
  typed: FieldValues;
  /** What stood there when the typing began. */
  seen: number | null;
}

/** By person: whoever signs in after a lost session begins with a clean form. */
const drafts = (key: string) => `draft ${queryClient.getQueryData(sessionQuery.queryKey)?.username} ${key}`;

/** The draft of a form when it is opened, and the way to let it go. */
export function useDraft(key: string) {
  const [found, setFound] = useState(() => JSON.parse(sessionStorage.getItem(drafts(key)) ?? "null") as Draft | null);
  const drop = () => {
    sessionStorage.removeItem(drafts(key));
    setFound(null);
  };
  return { found, drop };
}

/** Keeps what is typed when typing rests, so that a closed sheet or a lost page loses nothing. */
export function useKept(key: string, control: Control<FieldValues>, seen: number | null, on: boolean) {
  const typed = useWatch({ control });
  const { isDirty } = useFormState({ control });
  const text = JSON.stringify({ typed, seen });
  useEffect(() => {
    if (!on || !isDirty) return;
    const rest = setTimeout(() => sessionStorage.setItem(drafts(key), text), 300);
    return () => clearTimeout(rest);
  }, [key, text, isDirty, on]);
}
