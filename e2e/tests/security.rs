//! Who may come in: to the database, to the data, to the page.

use anyhow::Context;
use e2e::{Database, Ladder, Start};
use serde_json::json;
use std::io::{Read, Write};
use std::net::TcpStream;
use std::os::unix::fs::PermissionsExt;
use std::process::Command;
use std::time::Duration;

fn mariadb(arguments: &[&str], secret: &str) -> anyhow::Result<std::process::Output> {
    let mut command = Command::new("mariadb");
    command
        .arg("--no-defaults")
        .args(arguments)
        .env("MYSQL_PWD", secret);
    Ok(command.output()?)
}

#[tokio::test(flavor = "multi_thread")]
async fn the_database_lets_in_nobody_else_and_its_users_only_to_their_own() -> anyhow::Result<()> {
    let database = Database::start().await?;
    let folder = database.folder();
    let port = std::fs::read_to_string(folder.join("mariadb.port"))?
        .trim()
        .to_owned();
    let (host, port) = (["-h", "127.0.0.1"], ["-P", port.as_str()]);
    let ask = |user: &str, secret: &str, statement: &str| {
        mariadb(
            &[host[0], host[1], port[0], port[1], "-u", user, "-e", statement],
            secret,
        )
    };
    for user in ["root", "mysql", "", "mariadb.sys"] {
        assert!(
            !ask(user, "", "SELECT 1")?.status.success(),
            "{user} comes in without a word"
        );
    }
    let secret = std::fs::read_to_string(folder.join("mariadb.secret"))?;
    assert!(
        ask("ladder", &secret, "SELECT 1 FROM ladder.missing")?
            .status
            .code()
            == Some(1)
    );
    assert!(
        ask(
            "ladder",
            &secret,
            "CREATE TABLE ladder.own (n INT); DROP TABLE ladder.own"
        )?
        .status
        .success()
    );
    for statement in [
        "SELECT * FROM mysql.global_priv",
        "CREATE DATABASE elsewhere",
        "SET GLOBAL max_connections = 1",
        "CREATE DATABASE ladder_test_1",
    ] {
        assert!(
            !ask("ladder", &secret, statement)?.status.success(),
            "{statement}"
        );
    }
    let private = |path: &std::path::Path| -> anyhow::Result<bool> {
        Ok(std::fs::metadata(path)?.permissions().mode() & 0o077 == 0)
    };
    let socket = std::fs::read_to_string(folder.join("mariadb.socket"))?;
    for path in [
        folder.to_owned(),
        folder.join("mariadb.secret"),
        socket.trim().into(),
    ] {
        assert!(private(&path)?, "{} can be read by others", path.display());
    }
    // Another start finds the same server, and ends it not.
    let script = concat!(env!("CARGO_MANIFEST_DIR"), "/../bin/database");
    for action in ["start", "stop"] {
        let output = Command::new(script).arg(action).arg(folder).arg("1").output()?;
        assert!(output.status.success());
    }
    assert!(
        ask("ladder", &secret, "SELECT 1")?.status.success(),
        "the first one's database goes on"
    );
    Ok(())
}

/// As a folder was left by an earlier version: its owner without a password, everybody let in, Ladder's user with all rights.
#[tokio::test(flavor = "multi_thread")]
async fn a_folder_of_an_earlier_version_is_tightened_when_it_is_started() -> anyhow::Result<()> {
    let database = Database::start().await?;
    let socket = std::fs::read_to_string(database.folder().join("mariadb.socket"))?;
    let socket = format!("--socket={}/sock", socket.trim());
    let loosened = mariadb(
        &[
            &socket,
            "-u",
            "root",
            "-e",
            "CREATE USER root@'127.0.0.1'; GRANT ALL ON *.* TO root@'127.0.0.1'; GRANT ALL ON *.* TO ladder@'127.0.0.1'",
        ],
        "",
    )?;
    assert!(
        loosened.status.success(),
        "{}",
        String::from_utf8_lossy(&loosened.stderr)
    );
    database.stop(false)?;
    database.start_again()?;
    let port = std::fs::read_to_string(database.folder().join("mariadb.port"))?
        .trim()
        .to_owned();
    let of = ["-h", "127.0.0.1", "-P", &port];
    let root = mariadb(&[of[0], of[1], of[2], of[3], "-u", "root", "-e", "SELECT 1"], "")?;
    assert!(!root.status.success());
    let secret = std::fs::read_to_string(database.folder().join("mariadb.secret"))?;
    let wide = mariadb(
        &[
            of[0],
            of[1],
            of[2],
            of[3],
            "-u",
            "ladder",
            "-e",
            "SELECT * FROM mysql.user",
        ],
        &secret,
    )?;
    assert!(!wide.status.success());
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn pages_are_sent_with_a_policy_and_half_a_request_ends() -> anyhow::Result<()> {
    let ladder = Ladder::start(false).await?;
    for path in ["/", "/api/instruments", "/api/nowhere", "/instruments/1/plan"] {
        let answer = match ureq::get(&format!("{}{path}", ladder.address)).call() {
            Ok(answer) | Err(ureq::Error::Status(_, answer)) => answer,
            Err(error) => return Err(error.into()),
        };
        let policy = answer
            .header("content-security-policy")
            .context("a policy")?
            .to_owned();
        let scripts = policy
            .split(';')
            .find(|part| part.trim().starts_with("script-src"))
            .context("scripts")?;
        assert!(
            !scripts.contains("unsafe-inline") && policy.contains("frame-ancestors 'none'"),
            "{policy}"
        );
        assert_eq!(answer.header("x-content-type-options"), Some("nosniff"));
    }
    assert_eq!(
        std::fs::metadata(ladder.folder())?.permissions().mode() & 0o077,
        0
    );
    let mut half = TcpStream::connect(ladder.address.trim_start_matches("http://"))?;
    half.write_all(b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\n")?;
    half.set_read_timeout(Some(Duration::from_secs(40)))?;
    let mut rest = Vec::new();
    half.read_to_end(&mut rest).context("half a request stays open")?;
    ladder.end().await
}

/// Renders wait for their turn, and hold nothing that others wait for.
#[tokio::test(flavor = "multi_thread")]
async fn renders_and_views_at_once_are_all_answered() -> anyhow::Result<()> {
    let ladder = Ladder::start_as(Start::default()).await?;
    let plan = json!({ "kind": "struck", "source": { "how": "over_midi", "rig": "night-ferry", "channel": 1, "program": 1 },
        "rate_hz": 48_000, "bits": 24, "channels": 2,
        "passes": [{ "name": "Keys", "sounds_on": "key_down", "rungs": (40..70).collect::<Vec<u8>>(), "layers": [{ "name": "all", "strike_velocity": 100 }],
            "round_robins": 1, "hold_ms": 300, "tail_ms": 300 }] });
    ladder.post("/api/instruments", &json!({ "name": "Ferry", "plan": plan }))?;
    ladder.post("/api/instruments/1/run", &json!({}))?;
    let view = ladder
        .wait_for("/api/instruments/1", |view| {
            let takes = view["takes"].as_array().map_or(&[][..], Vec::as_slice);
            takes.len() == 30 && takes.iter().all(|take| !take["facts"].is_null())
        })
        .await?;
    let ids: Vec<u64> = view["takes"]
        .as_array()
        .context("takes")?
        .iter()
        .filter_map(|take| take["id"].as_u64())
        .collect();
    let wishes: Vec<_> = ids
        .iter()
        .map(|take| json!({ "target": { "take": take }, "fact": "remove_dc", "after": { "value": true } }))
        .collect();
    ladder.post(
        "/api/instruments/1/changes",
        &json!({ "label": "clean", "wishes": wishes }),
    )?;
    let answered = std::thread::scope(|scope| {
        let clients: Vec<_> = (0..120)
            .map(|n| {
                let path = if n % 2 == 0 {
                    format!(
                        "/api/takes/{}/audio?first=0&end=2000&version=cleaned",
                        ids[n / 2 % ids.len()]
                    )
                } else {
                    "/api/instruments/1".to_owned()
                };
                let ladder = &ladder;
                scope.spawn(move || ladder.bytes(&path).is_ok_and(|bytes| !bytes.is_empty()))
            })
            .collect();
        clients
            .into_iter()
            .filter_map(|client| client.join().ok())
            .filter(|answered| *answered)
            .count()
    });
    assert_eq!(answered, 120);
    ladder.end().await
}
