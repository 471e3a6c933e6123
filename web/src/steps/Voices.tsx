// How many tones of a strand there are at once, and how one goes over into the next.
import type { Fact, Schemas } from "../api/client";
import { count, time } from "../model/units";
import { Choice } from "../parts/Choice";
import { Field } from "../parts/Field";
import { change } from "../state/edits";
import { sayError } from "../state/view";
import { sayOf, type Shaped } from "./routes";

type Glide = Schemas["Glide"];

const MOST = 128;
const FIRST_GLIDE: Glide = { ms: 60, per_octave: false, legato_only: false };

export function VoicesCard({ shaped }: { shaped: Shaped }) {
  const { view, strand, whose } = shaped;
  const { voices } = strand.strand;
  const say = (fact: Fact, value: unknown, label: string) => sayOf(shaped, label, [[fact, value]]);
  const byHand = (fact: Fact) => strand.said.by_hand.includes(fact);
  const sayWhole = (value: unknown, label: string) => void change(view.id, label, [{ fact: "most_voices", value }]).catch(sayError);
  const { glide } = voices;
  const sayGlide = (to: Glide | null, label: string) => say("strand_glide", to, label);
  return (
    <section className="card flex flex-col gap-3 p-3" aria-label="Voices">
      <h3>
        <b className="font-semibold">Voices</b>{" "}
        <span className="text-[12px] text-ink3">how many sound at once, and how one goes over into the next</span>
      </h3>
      <div className="flex flex-wrap items-end gap-3">
        <div className="w-44">
          <Choice
            label="Tones"
            value={glide ? "one" : "several"}
            options={[
              { value: "several", name: "several at a time" },
              { value: "one", name: "one at a time" },
            ]}
            onChange={(next) =>
              sayGlide(next === "one" ? FIRST_GLIDE : null, `let ${whose} sound ${next === "one" ? "one tone" : "several tones"} at a time`)
            }
          />
        </div>
        {glide ? (
          <>
            <Field
              label="Glides within"
              width="88px"
              value={glide.ms}
              unit={time}
              byHand={byHand("strand_glide")}
              onSet={(ms) => sayGlide({ ...glide, ms: Math.min(10_000, Math.max(0, ms)) }, `set the glide of ${whose}`)}
            />
            <label className="flex items-center gap-1.5 pb-1.5 text-[12.5px]">
              <input
                type="checkbox"
                checked={glide.per_octave}
                onChange={(event) =>
                  sayGlide(
                    { ...glide, per_octave: event.target.checked },
                    `let ${whose} glide by ${event.target.checked ? "speed" : "time"}`,
                  )
                }
              />
              for each octave
            </label>
            <label className="flex items-center gap-1.5 pb-1.5 text-[12.5px]">
              <input
                type="checkbox"
                checked={glide.legato_only}
                onChange={(event) =>
                  sayGlide(
                    { ...glide, legato_only: event.target.checked },
                    `let ${whose} glide ${event.target.checked ? "when played legato" : "always"}`,
                  )
                }
              />
              only from a key that is still down
            </label>
          </>
        ) : (
          <>
            <Field
              label="At most"
              width="88px"
              value={voices.most ?? MOST}
              unit={{ ...count, show: (v) => (v === MOST ? "all" : String(v)) }}
              byHand={byHand("strand_most_voices")}
              onSet={(most) => say("strand_most_voices", Math.min(MOST, Math.max(1, Math.round(most))), `limit the voices of ${whose}`)}
              onAutomatic={() => say("strand_most_voices", undefined, `give the voices of ${whose} back`)}
            />
            {voices.most != null && (
              <div className="w-36">
                <Choice
                  label="First goes"
                  value={voices.goes_first}
                  options={[
                    { value: "oldest", name: "the oldest" },
                    { value: "softest", name: "the softest" },
                    { value: "highest", name: "the highest" },
                    { value: "lowest", name: "the lowest" },
                  ]}
                  onChange={(next) => say("strand_goes_first", next, `let the ${next} voice of ${whose} go first`)}
                />
              </div>
            )}
            <div className="w-44">
              <Choice
                label="The same key again"
                value={voices.same_key}
                options={[
                  { value: "rings", name: "lets it ring" },
                  { value: "cuts", name: "cuts it off" },
                  { value: "shares", name: "goes on in its voice" },
                ]}
                onChange={(next) =>
                  say(
                    "strand_same_key",
                    next,
                    `let the same key of ${whose} ${{ cuts: "cut off", shares: "go on in its voice", rings: "ring on" }[next]}`,
                  )
                }
              />
            </div>
          </>
        )}
        <Field
          label="At most of the whole"
          width="128px"
          value={view.program.most_voices ?? MOST}
          unit={{ ...count, show: (v) => (v === MOST ? "all" : String(v)) }}
          byHand={view.program.most_voices != null}
          onSet={(most) => sayWhole(Math.min(MOST, Math.max(1, Math.round(most))), "limit the voices of the whole")}
          onAutomatic={() => sayWhole(undefined, "give the voices of the whole back")}
        />
      </div>
    </section>
  );
}
