// A phrase that is played again and again while anything is changed: brought as a MIDI file, or played and kept; tempo and metronome.
import { Popover } from "radix-ui";
import { useState } from "react";
import { tempo } from "../model/units";
import * as phrases from "../sound/phrase";
import { usePhrases } from "../sound/phrase";
import { useSound } from "../sound/player";
import { usePending } from "../state/pending";
import { AskSurely } from "./Ask";
import { Choice } from "./Choice";
import { Field } from "./Field";

const ALL = "all";

export function PhraseBox() {
  const { kept, place, channel, goesRound, quarters, metronome, plays, since, beside } = usePhrases();
  const going = useSound((sound) => sound.meter.phrase);
  const [pending, begin] = usePending();
  const [forgets, setForgets] = useState(false);
  const phrase = phrases.chosen({ kept, place });
  const channels = phrase ? phrases.channelsOf(phrase) : [];
  return (
    <Popover.Root>
      <Popover.Trigger
        className="rounded px-1 whitespace-nowrap hover:bg-line2"
        title="A phrase that goes round while anything is changed, and a metronome"
      >
        Phrase
        {plays && going && (
          <span className="num ml-1" data-part="phrase-at" data-rounds={going.rounds}>
            {Math.round(100 * going.at)} %
          </span>
        )}
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          side="top"
          align="end"
          sideOffset={4}
          aria-label="Phrase"
          onInteractOutside={(event) => event.preventDefault()}
          className="z-40 flex w-96 flex-col gap-3 rounded-lg border border-line bg-raised p-3 text-[12.5px] shadow-lg"
        >
          <h3 className="font-semibold">Phrase</h3>
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
            <FileButton
              name="MIDI file…"
              part="midi-file"
              accept=".mid,.midi,audio/midi"
              onFile={(file) => begin(() => phrases.bring(file))}
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
              <FileButton
                name="Audio file beside it…"
                part="beside-file"
                accept="audio/*"
                onFile={(file) => begin(() => phrases.bringBeside(file))}
              />
            )}
          </div>
          <div className="flex justify-end gap-2">
            {phrase && (
              <>
                <button className="button" onClick={() => setForgets(true)}>
                  Forget it…
                </button>
                <button className="button" disabled={pending} onClick={() => begin(phrases.save)}>
                  Save as MIDI file
                </button>
              </>
            )}
            <Popover.Close className="button">Close</Popover.Close>
          </div>
          {forgets && phrase && (
            <AskSurely title={`Forget «${phrase.name}»?`} act="Forget it" onClose={() => setForgets(false)} onSure={phrases.forget}>
              This browser keeps it no longer. Save it as a MIDI file first if you want it again.
            </AskSurely>
          )}
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
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

interface FileProps {
  name: string;
  part: string;
  accept: string;
  onFile: (file: File) => void;
}

function FileButton({ name, part, accept, onFile }: FileProps) {
  return (
    <label className="button cursor-pointer">
      {name}
      <input
        type="file"
        className="sr-only"
        data-part={part}
        accept={accept}
        onChange={(event) => {
          const [file] = event.target.files ?? [];
          if (file) onFile(file);
          // The same file may be chosen again.
          event.target.value = "";
        }}
      />
    </label>
  );
}
