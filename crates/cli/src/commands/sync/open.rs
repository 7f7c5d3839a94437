//! `yattic sync page`: opens this computer's own page.

use crate::desktop;
use crate::output::{Done, Failure, Output};
use crate::page::ask::Runner;
use crate::page::guard::Code;
use reqwest::Method;
use std::fs::OpenOptions;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::{Path, PathBuf};
use yellow_attic_sync::computer::Computer;

/// The file that opens the page.
const OPENS: &str = "open.html";

/// Writes the file that opens the page: only this account can read it, and what is in it counts once. An address with the
/// code in it would stand among the programs that run, for everybody to read.
pub(crate) async fn opener(folder: &Path) -> Result<PathBuf, Failure> {
    let runner = Runner::of(folder)?.ok_or_else(|| {
        Failure::failed(
            "yattic sync run is not at work, and the page is a part of it",
            "Start it: yattic sync run; or with each of your sessions: yattic sync install",
        )
        .coded("not_at_work")
    })?;
    let Code { address, code } = runner.ask(Method::POST, "/here/code", &()).await?;
    let page = format!(
        "<!doctype html>\n<html lang=\"en\"><meta charset=\"utf-8\"><title>Yellow Attic</title>\n\
         <form id=\"enter\" method=\"post\" action=\"{address}/enter\">\n\
         <input type=\"hidden\" name=\"code\" value=\"{code}\"><button>Open this computer's page</button></form>\n\
         <script>document.getElementById(\"enter\").submit()</script>\n"
    );
    let path = folder.join(OPENS);
    match std::fs::remove_file(&path) {
        Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(e.into()),
        _ => {}
    }
    let mut file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path)?;
    file.write_all(page.as_bytes())?;
    Ok(path)
}

pub(super) async fn page(computer: &Computer, print: bool, output: Output) -> Done {
    let path = opener(&computer.folder).await?;
    let opened = !print && desktop::open(&path.display().to_string());
    let said = match opened {
        true => "This computer's page is opened in your browser.".to_string(),
        false => format!("Open this file in your browser within a minute: {}", path.display()),
    };
    output.done(&serde_json::json!({ "file": path, "opened": opened }), said)
}
