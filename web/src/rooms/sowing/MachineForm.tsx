import { api, type Schemas, take } from "../../api/client";
import { type FormField, QuickForm, type Values } from "../../ui/QuickForm";

/** What is said of a sower: its name at the bench, its dial, how near a tray must come, and its scale. */
export function MachineForm({ machine, onDone }: { machine?: Schemas["MachineOut"]; onDone: () => void }) {
  const fields: FormField[] = [
    { name: "name", label: "Name at the bench", start: machine?.name ?? "", wide: true },
    { name: "setting_min", label: "The dial goes from", start: String(machine?.setting_min ?? ""), digits: true },
    { name: "setting_max", label: "to", start: String(machine?.setting_max ?? ""), digits: true },
    {
      name: "more_is",
      label: "Which way",
      type: "select",
      start: machine?.more_is ?? "increasing",
      options: [
        ["increasing", "a higher setting sows more"],
        ["decreasing", "a higher setting sows less"],
      ],
    },
    {
      name: "tolerance_percent",
      label: "A tray must come within, %",
      start: String(machine?.tolerance_percent ?? 5),
      digits: true,
    },
    {
      name: "scale_at",
      label: "Scale on this computer",
      start: machine?.scale_at ?? "",
      hint: "like 127.0.0.1:8099, or empty",
    },
    { name: "note", label: "What to mind", start: machine?.note ?? "" },
    {
      name: "simulated",
      label: "It is the sower for practice that ships",
      type: "check",
      start: machine?.simulated ? "yes" : "",
    },
    ...(machine
      ? [
          {
            name: "retired",
            label: "Not in use any more",
            type: "check" as const,
            start: machine.retired ? "yes" : "",
          },
        ]
      : []),
  ];
  const save = (typed: Values) => {
    const body = {
      name: typed.name ?? "",
      setting_min: Number(typed.setting_min),
      setting_max: Number(typed.setting_max),
      more_is: typed.more_is === "decreasing" ? ("decreasing" as const) : ("increasing" as const),
      tolerance_percent: Number(typed.tolerance_percent),
      scale_at: typed.scale_at ?? "",
      note: typed.note ?? "",
      simulated: typed.simulated === "yes",
      retired: typed.retired === "yes",
    };
    return machine
      ? take(api.POST("/api/machines/{machine_id}", { params: { path: { machine_id: machine.id } }, body }))
      : take(api.POST("/api/machines", { body }));
  };
  return <QuickForm fields={fields} button={machine ? "Keep it" : "Add it"} save={save} onDone={onDone} />;
}
