/** Where rows that are being brought in stay while somebody is away, in Methods say. */
export const KEPT = "aldrip.import";
