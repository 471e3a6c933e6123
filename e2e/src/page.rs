//! A page with real devices, without a browser: it keeps what is not acknowledged, opens its line again after a break, and plays what it is
//! asked for.

use anyhow::{Context, bail};
use serde_json::{Value, json};
use std::collections::VecDeque;
use std::net::TcpStream;
use std::time::{Duration, Instant};
use tungstenite::stream::MaybeTlsStream;
use tungstenite::{Message, WebSocket};

const RATE_HZ: u64 = 48_000;
const BLOCK: u64 = 1_024;

/// What sounds at its input.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sound {
    /// A number in every frame, by which each is known again.
    Numbered,
    /// A struck tone of a key every four seconds.
    Struck(u8),
    /// A tone of the key that was asked for by MIDI, as long as it is down.
    Played,
}

/// A note that was asked for.
#[derive(Debug, Clone, Copy)]
struct Note {
    key: u8,
    on: u64,
    off: Option<u64>,
}

/// What became of a page's recording.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PageEnd {
    /// It is over.
    Finished,
    /// Nothing waits for it, and why.
    Refused(String),
}

/// How it goes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Playing {
    /// It goes on.
    GoesOn,
    /// The line has broken.
    Broken,
    /// It has ended.
    Ended(PageEnd),
}

/// A page.
pub struct Page {
    instrument: u64,
    sound: Sound,
    socket: Option<WebSocket<MaybeTlsStream<TcpStream>>>,
    kept: VecDeque<(u64, Vec<u8>)>,
    run: Option<String>,
    notes: Vec<Note>,
    left: Vec<u64>,
    /// Frames so far.
    pub frame: u64,
    /// Frames that the server said are safe.
    pub acknowledged: u64,
    /// Where the line went on when it was last opened.
    pub opened_at: Option<u64>,
}

/// The sample of a frame where every frame is known again: 24 bits hold it exactly.
pub fn numbered(frame: u64) -> f32 {
    ((frame.wrapping_mul(7_919) % 16_000) as f32 - 8_000.0) / 16_384.0
}

impl Page {
    /// One whose recording was begun.
    pub fn new(instrument: u64, sound: Sound) -> Self {
        Self {
            instrument,
            sound,
            socket: None,
            kept: VecDeque::new(),
            run: None,
            notes: Vec::new(),
            left: Vec::new(),
            frame: 0,
            acknowledged: 0,
            opened_at: None,
        }
    }

    fn sample(&self, frame: u64) -> f32 {
        // A quiet room, the same at every run.
        let noise = ((frame.wrapping_mul(48_271) % 65_521) as f32 / 65_521.0 - 0.5) * 2e-4;
        let tone = |key: u8, since: u64, decay: f32| {
            let hz = 440.0 * 2f64.powf((f64::from(key) - 69.0) / 12.0);
            let t = since as f64 / RATE_HZ as f64;
            let partials: f64 = (1..=4)
                .map(|k| (std::f64::consts::TAU * hz * f64::from(k) * t).sin() / f64::from(k))
                .sum();
            partials as f32 * 0.25 * (-(t as f32) * decay).exp()
        };
        match self.sound {
            Sound::Numbered => numbered(frame),
            Sound::Struck(key) => {
                let first = RATE_HZ * 2;
                let since = frame.saturating_sub(first) % (4 * RATE_HZ);
                if frame < first {
                    noise
                } else {
                    noise + tone(key, since, 4.0)
                }
            }
            Sound::Played => {
                let playing = self.notes.iter().rev().find(|note| note.on <= frame);
                let of_note = playing.map_or(0.0, |note| {
                    let fades = note.off.map_or(0, |off| frame.saturating_sub(off)) as f32 / RATE_HZ as f32;
                    tone(note.key, frame - note.on, 0.2) * (-fades * 30.0).exp()
                });
                noise + of_note
            }
        }
    }

    /// Opens the line, again where it was broken.
    pub fn open(&mut self, address: &str) -> anyhow::Result<Playing> {
        let url = format!(
            "{}/api/instruments/{}/line",
            address.replace("http://", "ws://"),
            self.instrument
        );
        let (mut socket, _) = tungstenite::connect(url)?;
        if let MaybeTlsStream::Plain(stream) = socket.get_mut() {
            stream.set_read_timeout(Some(Duration::from_secs(10)))?;
            stream.set_nodelay(true)?;
        }
        let hello: Value = loop {
            match socket.read()? {
                Message::Text(text) => break serde_json::from_str(&text)?,
                Message::Close(_) => bail!("closed at once"),
                _ => {}
            }
        };
        if let Some(sentence) = hello["refused"]["sentence"].as_str() {
            return Ok(Playing::Ended(PageEnd::Refused(sentence.to_owned())));
        }
        let run = hello["opened"]["run"].as_str().context("a greeting")?.to_owned();
        if self.run.as_ref() != Some(&run) {
            self.left.clear();
        }
        self.run = Some(run);
        self.opened_at = hello["opened"]["frame"].as_u64();
        if let Some(frame) = self.opened_at {
            self.acknowledge(frame);
            if let Some((oldest, _)) = self.kept.front().filter(|(oldest, _)| *oldest > frame) {
                let message = json!({ "oldest": { "frame": oldest } }).to_string();
                socket.send(Message::text(message))?;
            }
        }
        for (_, block) in &self.kept {
            socket.send(Message::binary(block.clone()))?;
        }
        if let MaybeTlsStream::Plain(stream) = socket.get_mut() {
            stream.set_read_timeout(Some(Duration::from_millis(1)))?;
        }
        self.socket = Some(socket);
        Ok(Playing::GoesOn)
    }

    fn acknowledge(&mut self, frame: u64) {
        self.acknowledged = self.acknowledged.max(frame);
        while self.kept.front().is_some_and(|(first, _)| first + BLOCK <= frame) {
            self.kept.pop_front();
        }
    }

    /// Plays some seconds of sound into the line, faster than they last; ends sooner where the line breaks or the recording ends. `ahead_s` is how
    /// far it runs ahead of what is acknowledged.
    pub fn play(&mut self, seconds: f64, ahead_s: f64) -> Playing {
        let until = self.frame + (seconds * RATE_HZ as f64) as u64;
        let began = Instant::now();
        while self.frame < until {
            let samples: Vec<u8> = (self.frame..self.frame + BLOCK)
                .flat_map(|frame| self.sample(frame).to_le_bytes())
                .collect();
            let mut block = self.frame.to_le_bytes().to_vec();
            block.extend(samples);
            self.kept.push_back((self.frame, block.clone()));
            self.frame += BLOCK;
            let Some(socket) = &mut self.socket else {
                return Playing::Broken;
            };
            if socket.send(Message::binary(block)).is_err() {
                self.socket = None;
                return Playing::Broken;
            }
            loop {
                let ahead = self.frame.saturating_sub(self.acknowledged) as f64 / RATE_HZ as f64;
                match self.hear() {
                    Playing::GoesOn if ahead > ahead_s && began.elapsed() < Duration::from_secs(120) => {}
                    Playing::GoesOn => break,
                    ended => return ended,
                }
            }
        }
        Playing::GoesOn
    }

    /// Hears what the server says, if anything.
    pub fn hear(&mut self) -> Playing {
        let Some(socket) = &mut self.socket else {
            return Playing::Broken;
        };
        let message = match socket.read() {
            Ok(Message::Text(text)) => serde_json::from_str::<Value>(&text).unwrap_or_default(),
            Ok(Message::Close(_)) => {
                self.socket = None;
                return Playing::Broken;
            }
            Ok(_) => return Playing::GoesOn,
            Err(tungstenite::Error::Io(error))
                if matches!(
                    error.kind(),
                    std::io::ErrorKind::WouldBlock | std::io::ErrorKind::TimedOut
                ) =>
            {
                return Playing::GoesOn;
            }
            Err(_) => {
                self.socket = None;
                return Playing::Broken;
            }
        };
        if message == "finished" {
            return Playing::Ended(PageEnd::Finished);
        }
        if let Some(sentence) = message["refused"]["sentence"].as_str() {
            return Playing::Ended(PageEnd::Refused(sentence.to_owned()));
        }
        if let Some(frame) = message["acknowledged"]["frame"].as_u64() {
            self.acknowledge(frame);
        }
        for kind in ["midi", "play", "play_pulse"] {
            let said = &message[kind];
            if let (Some(number), Some(at)) = (said["number"].as_u64(), said["at_frame"].as_u64()) {
                self.leave(number, at, &said["bytes"]);
            }
        }
        Playing::GoesOn
    }

    fn leave(&mut self, number: u64, at: u64, bytes: &Value) {
        let at_frame = at.max(self.frame);
        if !self.left.contains(&number) {
            self.left.push(number);
            let byte = |n: usize| bytes[n].as_u64().unwrap_or(0) as u8;
            match (byte(0) & 0xF0, byte(2)) {
                (0x90, velocity) if velocity > 0 => self.notes.push(Note {
                    key: byte(1),
                    on: at_frame,
                    off: None,
                }),
                (0x80 | 0x90, _) => {
                    if let Some(note) = self.notes.iter_mut().rev().find(|note| note.key == byte(1)) {
                        note.off = Some(at_frame);
                    }
                }
                _ => {}
            }
        }
        let told = json!({ "left": { "number": number, "at_frame": at, "left_frame": at_frame } });
        self.say(&told);
    }

    /// Says something to the server.
    pub fn say(&mut self, what: &Value) {
        if let Some(socket) = &mut self.socket {
            // A line that breaks is found broken by the next block.
            let _ = socket.send(Message::text(what.to_string()));
        }
    }

    /// Tells the recording what to do, and waits until it has ended.
    pub fn stop(&mut self) -> anyhow::Result<PageEnd> {
        self.say(&json!({ "order": { "order": "stop" } }));
        let began = Instant::now();
        while began.elapsed() < Duration::from_secs(60) {
            match self.hear() {
                Playing::Ended(end) => return Ok(end),
                // The last message may be the last of the line.
                Playing::Broken => return Ok(PageEnd::Finished),
                Playing::GoesOn => {}
            }
        }
        bail!("it does not end")
    }
}
