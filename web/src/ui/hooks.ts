import { useMutation, useSuspenseQuery } from "@tanstack/react-query";
import { useSearch } from "@tanstack/react-router";
import { A_YEAR, LATELY, saved, sessionQuery } from "../api/queries";

/** Something that saves; whatever hangs on it is fetched anew. */
export function useSave<Input, Output>(save: (input: Input) => Promise<Output>, after?: (output: Output) => void) {
  return useMutation({
    mutationFn: save,
    onSuccess: async (output) => {
      await saved();
      after?.(output);
    },
  });
}

/** What the person signed in may do. */
export function useMay(): (action: string) => boolean {
  const { data } = useSuspenseQuery(sessionQuery);
  return (action) => data.may.includes(action);
}

/** How many weeks back lists show what is over; the address keeps it. */
export function useBack(): number {
  return useAddress().older ? A_YEAR : LATELY;
}

/** What stands behind the question mark of the address, of whichever room. */
export function useAddress() {
  return useSearch({ strict: false });
}
