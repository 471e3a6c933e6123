//! Rules of access that a machine can check.

use crate::Browser;

/// That what a browser shows breaks none of the rules of WCAG 2.2 that axe-core knows.
///
/// # Errors
/// Naming those that it breaks, and `what` is shown.
pub async fn follows_rules_of_access(browser: &Browser, what: &str) -> anyhow::Result<()> {
    let axe = std::fs::read_to_string(concat!(
        env!("CARGO_MANIFEST_DIR"),
        "/../web/node_modules/axe-core/axe.min.js"
    ))?;
    browser.driver.execute(axe, Vec::new()).await?;
    let broken: Vec<String> = browser
        .driver
        .execute_async(
            "const done = arguments[arguments.length - 1];
            const runOnly = ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice'];
            axe.run(document, { runOnly }).then(
              (found) => done(found.violations.flatMap((v) => v.nodes.map((node) => `${v.id}: ${node.html.slice(0, 200)}`))),
              (error) => done([String(error)]));",
            Vec::new(),
        )
        .await?
        .convert()?;
    anyhow::ensure!(broken.is_empty(), "{what}: {broken:#?}");
    Ok(())
}
