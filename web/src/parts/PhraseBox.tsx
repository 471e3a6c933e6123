// A phrase that is played again and again while anything is changed: brought as a MIDI file, or played and kept; tempo and metronome.
import { useState } from "react";
import { tempo } from "../model/units";
import * as phrases from "../sound/phrase";
import { usePhrases, usePlaying } from "../sound/phrase";
import { useSound } from "../sound/player";
import { usePending } from "../state/pending";
import { AskSurely } from "./Ask";
import { Bring } from "./Bring";
import { Choice } from "./Choice";
import { Field } from "./Field";
import { FootBox } from "./FootBox";

const ALL = "all";

export function PhraseBox() {
  const { kept, place, channel, goesRound, quarters, metronome } = usePhrases();
  const { plays, since, beside } = usePlaying();
  const going = useSound((sound) => sound.meter.phrase);
  const [pending, begin] = usePending();
  const [forgets, setForgets] = useState(false);
  const phrase = phrases.chosen({ kept, place });
  const channels = phrase ? phrases.channelsOf(phrase) : [];
  const told = plays && going && (
    <span className="num ml-1" data-part="phrase-at" data-rounds={going.rounds}>
      {Math.round(100 * going.at)} %
    </span>
  );
  const acts = phrase && (
    <>
      <button className="button" onClick={() => setForgets(true)}>
        Forget it…
      </button>
      <button className="button" disabled={pending} onClick={() => begin(phrases.save)}>
        Save as MIDI file
      </button>
    </>
  );
  return (
    <FootBox name="Phrase" title="A phrase that goes round while anything is changed, and a metronome" told={told} width="w-96" acts={acts}>
      {phrase ? (
        <div className="grid grid-cols-2 gap-3">
          <Choice
            label="What is played"
            value={String(place)}
            onChange={(next) => phrases.choose(Number(next))}
            options={kept.map(({ name }, n) => ({ value: String(n), name: name || "unnamed" }))}
          />
          <Choice
            label="Of its channels"
            value={channel === undefined ? ALL : String(channel)}
            onChange={(next) => phrases.chooseChannel(next === ALL ? undefined : Number(next))}
            options={[{ value: ALL, name: "all" }, ...channels.map((n) => ({ value: String(n), name: `channel ${n + 1}` }))]}
          />
        </div>
      ) : (
        <p className="text-ink2">None yet: bring a MIDI file, or keep what you play.</p>
      )}
      <div className="flex flex-wrap gap-2">
        {phrase && (
          <button className="button act" disabled={since !== undefined} onClick={() => (plays ? phrases.stop() : begin(phrases.play))}>
            {plays ? "Stop" : "Play"}
          </button>
        )}
        <button className="button" onClick={() => (since ? phrases.keepPlayed() : phrases.listen())}>
          {since ? (since.ms === undefined ? "Waits for the first key: stop" : "Keep what was played") : "Keep what I play"}
        </button>
        <Bring
          name="MIDI file…"
          one
          part="midi-file"
          accept=".mid,.midi,audio/midi"
          onFiles={([file]) => file && begin(() => phrases.bring(file))}
        />
      </div>
      <div className="flex flex-wrap items-end gap-4">
        <Field
          label="Tempo"
          value={quarters}
          unit={tempo}
          width="110px"
          onSet={(v) => phrases.set({ quarters: Math.min(400, Math.max(20, v)) })}
          onAutomatic={phrase && (() => phrases.set({ quarters: phrase.quarters_a_minute }))}
          byHand={phrase !== undefined && phrase.quarters_a_minute !== quarters}
        />
        <Tick label="Metronome" checked={metronome} onChange={(next) => phrases.set({ metronome: next })} />
        <Tick label="Goes round" checked={goesRound} onChange={(next) => phrases.set({ goesRound: next })} />
      </div>
      <div className="flex flex-wrap items-center gap-2">
        {beside ? (
          <>
            <span className="min-w-0 truncate">beside it: «{beside.name}»</span>
            <button className="button" onClick={phrases.leaveBeside}>
              Without it
            </button>
          </>
        ) : (
          <Bring
            name="Audio file beside it…"
            one
            part="beside-file"
            accept="audio/*"
            onFiles={([file]) => file && begin(() => phrases.bringBeside(file))}
          />
        )}
      </div>
      {forgets && phrase && (
        <AskSurely title={`Forget «${phrase.name}»?`} act="Forget it" onClose={() => setForgets(false)} onSure={phrases.forget}>
          This browser keeps it no longer. Save it as a MIDI file first if you want it again.
        </AskSurely>
      )}
    </FootBox>
  );
}

function Tick({ label, checked, onChange }: { label: string; checked: boolean; onChange: (checked: boolean) => void }) {
  return (
    <label className="flex items-center gap-1 pb-1">
      <input type="checkbox" checked={checked} onChange={(event) => onChange(event.target.checked)} />
      {label}
    </label>
  );
}
