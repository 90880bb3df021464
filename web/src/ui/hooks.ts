import { useMutation, useSuspenseQuery } from "@tanstack/react-query";
import { useSearch } from "@tanstack/react-router";
import { startTransition, useEffect, useState } from "react";
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

/** How many rows are drawn beyond what is seen: hardly any while the list is torn along, when they would bridge no frame. */
export function useSpare(most: number, high: number): number {
  const [torn, setTorn] = useState(false);
  useEffect(() => {
    const main = document.getElementById("work");
    if (!main) return;
    let was = main.scrollTop;
    let later = 0;
    const scrolled = () => {
      const now = main.scrollTop;
      if (Math.abs(now - was) > most * high) {
        setTorn(true);
        window.clearTimeout(later);
        // What was left out comes back piece by piece, so that the next turn of the wheel does not wait for it.
        later = window.setTimeout(() => startTransition(() => setTorn(false)), 150);
      }
      was = now;
    };
    main.addEventListener("scroll", scrolled, { passive: true });
    return () => {
      window.clearTimeout(later);
      main.removeEventListener("scroll", scrolled);
    };
  }, [most, high]);
  return torn ? 1 : most;
}
