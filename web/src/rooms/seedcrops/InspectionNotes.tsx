import { useRef, useState } from "react";
import type { Schemas } from "../../api/client";

type Visit = Schemas["InspectionOut"];
const SIDE = 1600; // pixels; the server keeps no more
const QUALITIES = [0.72, 0.5, 0.3]; // the first that is small enough
const MOST = 1_500_000; // characters

/** A photo as the server takes it: small, upright, base64 without its head. */
async function small(file: File): Promise<string> {
  const found = await createImageBitmap(file, { imageOrientation: "from-image" });
  const part = Math.min(1, SIDE / Math.max(found.width, found.height));
  const paper = document.createElement("canvas");
  paper.width = Math.round(found.width * part);
  paper.height = Math.round(found.height * part);
  paper.getContext("2d")?.drawImage(found, 0, 0, paper.width, paper.height);
  let text = "";
  for (const quality of QUALITIES) {
    text = paper.toDataURL("image/jpeg", quality).split(",")[1] ?? "";
    if (text.length < MOST) break;
  }
  return text;
}

/** A note or a photo to the area that is being counted; it waits here as every entry does. */
export function AddNote({ area, enter }: { area: number; enter: (note: string, photo: string) => Promise<unknown> }) {
  const paper = useRef<HTMLDialogElement>(null);
  const [photo, setPhoto] = useState("");
  const [said, setSaid] = useState("");
  const choose = async (file: File | undefined) => {
    setSaid("");
    try {
      setPhoto(file ? await small(file) : "");
    } catch {
      setPhoto("");
      setSaid("This is no photo that can be opened; take it again.");
    }
  };
  return (
    <>
      <button
        type="button"
        className="min-h-[56px] border-2 border-ink bg-panel p-2 text-left"
        onClick={() => paper.current?.showModal()}
      >
        <b className="block">Add a photo</b>
        <span className="note">or a note to this area</span>
      </button>
      <dialog
        ref={paper}
        className="m-auto w-[320px] border-2 border-ink bg-panel p-4"
        aria-label={`Photo or note to area ${area}`}
      >
        <form
          method="dialog"
          className="grid gap-3"
          onSubmit={(event) => {
            const form = event.currentTarget;
            const note = String(new FormData(form).get("note") ?? "").trim();
            if (note || photo) void enter(note, photo);
            setPhoto("");
            form.reset();
          }}
        >
          <label className="field">
            <span>Photo</span>
            <input
              type="file"
              accept="image/*"
              capture="environment"
              className="min-h-11 w-full"
              onChange={(event) => void choose(event.target.files?.[0])}
            />
          </label>
          {photo ? <img src={`data:image/jpeg;base64,${photo}`} alt="What was taken" className="max-h-48" /> : null}
          {said ? <p className="fault">{said}</p> : null}
          <label className="field">
            <span>Note to area {area}</span>
            <input name="note" className="input min-h-11" maxLength={300} />
          </label>
          <div className="grid grid-cols-2 gap-2">
            <button type="submit" className="btn min-h-11">
              Keep
            </button>
            <button type="button" className="btn-link min-h-11" onClick={() => paper.current?.close()}>
              Leave it
            </button>
          </div>
        </form>
      </dialog>
    </>
  );
}

/** What was noted and photographed, by area. */
export function InspectionNotes({ sheet }: { sheet: Visit }) {
  if (!sheet.notes.length) return null;
  return (
    <section className="mt-3" aria-label="Notes and photos">
      <h2 className="border-rule border-b pb-1">Notes and photos</h2>
      <ul>
        {sheet.notes.map((one) => (
          <li key={one.uuid} className="flex gap-3 border-hair border-b py-2">
            <span className="min-w-0 flex-1">
              area {one.area}
              {one.note ? `: ${one.note}` : ""} <span className="note">{one.by}</span>
            </span>
            {one.photo ? (
              <a href={`/api/inspections/${sheet.id}/photos/${one.uuid}`} target="_blank" rel="noreferrer">
                <img
                  src={`/api/inspections/${sheet.id}/photos/${one.uuid}`}
                  alt={`Area ${one.area}${one.note ? `, ${one.note}` : ""}`}
                  loading="lazy"
                  className="h-14 w-20 border border-ink object-cover"
                />
              </a>
            ) : null}
          </li>
        ))}
      </ul>
    </section>
  );
}
