import { AlertDialog } from "radix-ui";
import { useEffect, useState } from "react";
import { onDoubt } from "../api/client";

interface Asked {
  question: string;
  answer: (yes: boolean) => void;
}

/** The question before a value is kept that is far from what was to be expected. */
export function Doubt() {
  const [asked, setAsked] = useState<Asked | null>(null);
  useEffect(() => {
    onDoubt((question) => new Promise((answer) => setAsked({ question, answer })));
    return () => onDoubt(() => Promise.resolve(false));
  }, []);
  const say = (yes: boolean) => {
    asked?.answer(yes);
    setAsked(null);
  };
  return (
    <AlertDialog.Root open={asked !== null} onOpenChange={(open) => !open && say(false)}>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-50 bg-fold/70" />
        <AlertDialog.Content
          aria-describedby={undefined}
          className="-translate-x-1/2 -translate-y-1/2 fixed top-1/2 left-1/2 z-50 w-[min(440px,92vw)] border-[3px] border-ink bg-paper p-5"
        >
          <AlertDialog.Title className="text-h2">{asked?.question}</AlertDialog.Title>
          <div className="mt-4 flex flex-wrap gap-4">
            <AlertDialog.Cancel className="btn">No, I will mend it</AlertDialog.Cancel>
            <AlertDialog.Action className="btn-link" onClick={() => say(true)}>
              Yes, it is so; the answer is kept
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
