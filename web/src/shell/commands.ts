/** Everything that can be gone to or done from anywhere: keys, help and Find read this one list. */
export interface Command {
  words: string;
  /** Other words that people look for it by. */
  also?: string;
  key?: string;
  link?: string;
  act?: "working" | "sun" | "help" | "find";
  /** The permission it takes. */
  may?: string;
}

export const ROOMS = [
  ["orders", "Orders"],
  ["methods", "Methods"],
  ["places", "Places"],
  ["batches", "Batches"],
  ["sowing", "Sowing"],
  ["stockplants", "Stock plants"],
  ["seedcrops", "Seed crops"],
  ["lots", "Lots"],
  ["diary", "Diary"],
  ["deliveries", "Deliveries"],
] as const;

export const COMMANDS: Command[] = [
  { words: "Find a batch, lot, order, customer or room", key: "/", act: "find" },
  { words: "Open or close the working", key: "W", act: "working", also: "calculation how figures" },
  { words: "Sun mode", key: "S", act: "sun", also: "bright outside contrast" },
  { words: "These keys", key: "?", act: "help", also: "help shortcuts" },
  ...ROOMS.map(([slug, name]) => ({ words: name, link: `/${slug}`, also: "room" })),
  { words: "New order", link: "/orders?new=1", may: "orders.edit", also: "enter promise" },
  { words: "Board of batches", link: "/batches?view=board", also: "bench chart plan" },
  { words: "Paste or import orders", link: "/orders/import", may: "orders.edit", also: "file csv spreadsheet" },
  { words: "Customers", link: "/orders/customers", also: "growers buyers who" },
  {
    words: "House rules, people, what was done",
    link: "/house",
    also: "settings users history undo take back archive",
  },
];

/** What hands do on the drawn things themselves; no command, but looked for in the help. */
export const HANDS: [string, string][] = [
  ["Enter, Esc", "Keep or drop a proposal"],
  ["← → on the season line", "Move in time; + and − open and fold it, Home comes back to today"],
  ["Shift ← → on the season line", "Make the span shorter or longer"],
  ["Tab, Page up and down in the board", "From lane to lane, and from batch to batch in a lane"],
  ["← → on a batch in the board", "Propose a sowing day earlier or later"],
  ["↑ ↓ on a batch in the board", "Propose another place"],
  ["Enter on a batch in the board", "Open its ladder"],
];
