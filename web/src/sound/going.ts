// A phrase as it goes: what of it is due within a stretch of time, and where the beats are. Without a clock of its own: the audio thread tells it.

/** A channel message of MIDI: when it comes in ms from the phrase's beginning, status and data bytes. */
export type Message = [atMs: number, status: number, first: number, second: number];

export interface Phrase {
  events: Message[];
  lengthMs: number;
}

const NOTE_OFF = 0x80;
const NOTE_ON = 0x90;
const CONTROLLER = 0xb0;
const SUSTAIN = 64;

export class Going {
  private next = 0;
  private readonly down = new Set<number>();
  private pedal = false;
  /** Where it is, in ms of the phrase's own tempo. */
  at = 0;
  /** How often it has begun. */
  rounds = 1;
  ended = false;

  constructor(
    private readonly phrase: Phrase,
    public goesRound: boolean,
  ) {}

  /** Keys that it holds down. */
  get keys(): number[] {
    return [...this.down];
  }

  /** Goes on by so much; what is due. At its end it lets go what it holds, and begins anew or is over. */
  goOn(byMs: number): Message[] {
    const due: Message[] = [];
    if (this.ended) return due;
    let left = byMs;
    for (;;) {
      const { events, lengthMs } = this.phrase;
      const to = this.at + left;
      while (this.next < events.length && events[this.next]![0] < Math.min(to, lengthMs)) due.push(this.heard(events[this.next++]!));
      if (to < lengthMs) {
        this.at = to;
        return due;
      }
      due.push(...this.letGo());
      left = to - lengthMs;
      this.at = 0;
      this.next = 0;
      // A phrase of no length would go round for ever.
      if (!this.goesRound || lengthMs <= 0) {
        this.ended = true;
        return due;
      }
      this.rounds += 1;
    }
  }

  private heard(message: Message): Message {
    const [, status, first, second] = message;
    const kind = status & 0xf0;
    if (kind === NOTE_ON && second > 0) this.down.add(first);
    else if (kind === NOTE_ON || kind === NOTE_OFF) this.down.delete(first);
    else if (kind === CONTROLLER && first === SUSTAIN) this.pedal = second >= 64;
    return message;
  }

  /** What ends all that it holds. */
  letGo(): Message[] {
    const ends: Message[] = this.keys.map((key) => [this.at, NOTE_OFF, key, 64]);
    if (this.pedal) ends.push([this.at, CONTROLLER, SUSTAIN, 0]);
    this.down.clear();
    this.pedal = false;
    return ends;
  }
}

/** A beat's click: frames that are left of it, and where it is. */
export class Metronome {
  private left = 0;
  private phase = 0;

  constructor(private readonly rate: number) {}

  /** A beat falls on one of the next frames. */
  strike(): void {
    this.left = Math.round(CLICK_S * this.rate);
    this.phase = 0;
  }

  /** Adds what sounds of it. */
  add(left: Float32Array, right: Float32Array): void {
    for (let n = 0; n < left.length && this.left > 0; n++, this.left--) {
      this.phase += (2 * Math.PI * CLICK_HZ) / this.rate;
      const sound = CLICK_LEVEL * Math.sin(this.phase) * (this.left / (CLICK_S * this.rate)) ** 2;
      left[n]! += sound;
      right[n]! += sound;
    }
  }
}

const CLICK_HZ = 1_600;
const CLICK_S = 0.04;
const CLICK_LEVEL = 0.25;
