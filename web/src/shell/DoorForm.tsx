import type { ReactNode } from "react";

/** The form before the door: signing in, or a password of one's own. */
export function DoorForm({ submit, children }: { submit: () => void; children: ReactNode }) {
  return (
    <form
      className="mx-4 mt-[14vh] grid w-80 gap-3 border-ink border-l-4 bg-paper p-6 sm:ml-[12%]"
      onSubmit={(event) => {
        event.preventDefault();
        submit();
      }}
    >
      {children}
    </form>
  );
}
