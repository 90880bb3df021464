import { Link, useRouter } from "@tanstack/react-router";
import type { ReactNode } from "react";

/** A link that the server gave, "/lots?lot=12": the one place where an address is text. */
export function Door({ link, className, children }: { link: string; className?: string; children: ReactNode }) {
  const [path = "/", query = ""] = link.split("?");
  const search = Object.fromEntries(new URLSearchParams(query));
  return (
    <Link {...({ to: path, search } as { to: "/" })} className={className}>
      {children}
    </Link>
  );
}

/** The same in the row of a list: hundreds are drawn while somebody scrolls, so it follows nothing of the page around it. */
export function RowDoor({ link, children }: { link: string; children: ReactNode }) {
  const go = useGo();
  return (
    <a
      href={link}
      onClick={(event) => {
        // with a key held down the browser opens it elsewhere
        if (event.button || event.ctrlKey || event.metaKey || event.shiftKey || event.altKey) return;
        event.preventDefault();
        go(link);
      }}
    >
      {children}
    </a>
  );
}

/** Goes where such a link leads. */
export function useGo(): (link: string) => void {
  const router = useRouter();
  return (link) => router.history.push(link);
}
