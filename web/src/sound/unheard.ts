// An engine that is never heard: it says how a strand would run, as everything stands.
import type { InstrumentView } from "../api/client";
import { player } from "./player";
import type { Engine } from "./worklet";

type Program = InstrumentView["program"];

/** A program comes in pieces of at most so many bytes. */
const PIECE_BYTES = 1 << 16;

/** The engine with the program that was asked about last. */
let made: { program: Program; engine: Promise<Engine | undefined> } | undefined;

async function make(id: number): Promise<Engine | undefined> {
  const [module, bytes] = await Promise.all([player.compiled(), player.programOf(id)]);
  if (!bytes) return undefined;
  const { exports } = await WebAssembly.instantiate(module, {});
  const engine = exports as unknown as Engine;
  engine.start(48_000, 1, 0);
  engine.expect_program(bytes.byteLength);
  for (let at = 0; at < bytes.byteLength; at += PIECE_BYTES) {
    const piece = new Uint8Array(bytes.slice(at, at + PIECE_BYTES));
    new Uint8Array(engine.memory.buffer).set(piece, engine.exchange());
    engine.take_program(piece.byteLength);
  }
  engine.finish_program();
  return engine;
}

export interface Asked {
  strand: number;
  /** Where controls stand that were moved. */
  controls: Record<number, number>;
  heldMs: number;
  stepMs: number;
  values: number;
}

/** How loud a strand runs, in dB under full, a value each step; `undefined` where there is none. */
export async function loudnessCourse(id: number, program: Program, asked: Asked): Promise<Float32Array | undefined> {
  if (made?.program !== program) made = { program, engine: make(id) };
  const { engine: coming } = made;
  // What could not be fetched is asked for again.
  coming.catch(() => {
    if (made?.engine === coming) made = undefined;
  });
  const engine = await coming;
  if (!engine) return undefined;
  engine.controls_to_first();
  for (const [control, value] of Object.entries(asked.controls)) engine.control(Number(control), value);
  if (engine.loudness_course(asked.strand, asked.heldMs, asked.stepMs, asked.values) === 0) return undefined;
  return new Float32Array(engine.memory.buffer, engine.exchange(), asked.values).slice();
}
