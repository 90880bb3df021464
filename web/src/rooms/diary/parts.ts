/** Parts of a day, in the order in which they come. */
export const PARTS = ["early", "morning", "afternoon", "evening"] as const;
