import type { Schemas } from "../../api/client";

/** Forms in which a crop is raised here. */
export function formsOf(library: Schemas["LibraryOut"], cropId: number): string[] {
  return [...new Set(library.methods.filter((method) => method.crop_id === cropId).map((method) => method.form))];
}
