import { api, type Schemas, take } from "../../api/client";
import { QuickForm } from "../../ui/QuickForm";

type Visit = Schemas["InspectionOut"];

/** What may be signed beside what the count says: a part of the field, or all of it on other grounds. */
export function OtherWays({ sheet, onSigned }: { sheet: Visit; onSigned: (fresh: Visit) => void }) {
  const path = { path: { inspection_id: sheet.id } };
  return (
    <>
      <details>
        <summary className="btn-link min-h-11 cursor-pointer">Reject a part of it</summary>
        <p className="note">
          The rest stands, counts for its kilos, and is inspected again. Plough in or harvest the part as grain, apart.
        </p>
        <div className="mt-2">
          <QuickForm
            columns={1}
            button="Reject that part"
            fields={[
              {
                name: "side",
                label: "Along which side",
                type: "select",
                needed: true,
                options: SIDES.map((side) => [side, `the ${side}`]),
              },
              { name: "metres", label: "Metres from it", needed: true, digits: true },
              { name: "reason", label: "What is wrong there", needed: true },
            ]}
            save={async ({ side = "", metres = "", reason = "" }) =>
              onSigned(
                await take(
                  api.POST("/api/inspections/{inspection_id}/reject-part", {
                    params: path,
                    body: { side, metres, reason },
                  }),
                ),
              )
            }
          />
        </div>
      </details>
      {sheet.choices.includes("reject") ? null : (
        <details>
          <summary className="btn-link min-h-11 cursor-pointer">Reject the field on other grounds</summary>
          <div className="mt-2">
            <QuickForm
              columns={1}
              button="Reject the field"
              fields={[
                {
                  name: "reason",
                  label: "On what grounds",
                  hint: "wrong cultivar, mixed seed, flooded …",
                  needed: true,
                },
              ]}
              save={async ({ reason = "" }) =>
                onSigned(
                  await take(
                    api.POST("/api/inspections/{inspection_id}/sign", {
                      params: path,
                      body: { decision: "reject", reason },
                    }),
                  ),
                )
              }
            />
          </div>
        </details>
      )}
    </>
  );
}

const SIDES = ["north", "east", "south", "west"];
