import { type ErrorComponentProps, Link, useRouter } from "@tanstack/react-router";
import { ApiError } from "../api/client";
import { queryClient } from "../api/queries";
import { RoomHead } from "../ui/parts";

/** A room that could not be shown: why, in words, and the ways on; the frame around it stays. */
export function Broken({ error, reset }: ErrorComponentProps) {
  const router = useRouter();
  const known = error instanceof ApiError ? error : null;
  const again = async () => {
    await queryClient.invalidateQueries();
    reset();
    await router.invalidate();
  };
  return (
    <div className="px-4">
      <RoomHead title={known?.status === 404 ? "It is not here" : "This could not be shown"} />
      <p className="max-w-xl" role="alert">
        {known ? known.message : "Something on this page broke. What was saved is saved."}
      </p>
      <p className="mt-3 flex gap-4">
        <button type="button" className="btn w-fit" onClick={() => void again()}>
          Try again
        </button>
        <Link to="/diary">Go to the diary</Link>
      </p>
    </div>
  );
}

/** An address that leads nowhere. */
export function NoSuchPage() {
  return (
    <div className="px-4">
      <RoomHead title="There is no such page" />
      <p>The address may be old, or cut off. Everything is reached from the rooms, or with Find.</p>
      <p className="mt-3">
        <Link to="/diary">Go to the diary</Link>
      </p>
    </div>
  );
}
