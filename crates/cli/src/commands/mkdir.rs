//! `yattic mkdir`

use crate::connection;
use crate::output::{Done, Failure, Output};
use yellow_attic_client::api;

/// Make a folder.
#[derive(clap::Args)]
pub struct Mkdir {
    /// Which, as shelf:/path
    path: String,
    /// Make the folders on the way too; a folder that is there already is no error.
    #[arg(long, short)]
    parents: bool,
}

impl Mkdir {
    pub async fn run(self, output: Output) -> Done {
        let client = connection::client()?;
        let (folder, name) = connection::split(&self.path)?;
        let Some(name) = name else {
            return Err(Failure::usage("the top of a shelf is there already", "Name a folder on it."));
        };
        let made = if self.parents {
            let parsed = yellow_attic_core::ShelfPath::parse(&self.path)
                .map_err(|e| Failure::usage(e.to_string(), e.remedy()))?;
            // Above what was given nothing is to be seen: it is where the way begins.
            let known = usize::from(parsed.shelf == "given").min(parsed.names.len());
            let mut path = format!("{}:", parsed.shelf);
            for name in &parsed.names[..known] {
                path = format!("{path}/{name}");
            }
            let top = if known == 0 { format!("{path}/") } else { path.clone() };
            let mut node = connection::place(&client, &top, None).await?.node;
            for name in &parsed.names[known..] {
                path = format!("{path}/{name}");
                node = match client.make_folder(node.id, name.as_str()).await {
                    Err(e) if e.code() == Some("name_taken") => {
                        let there = connection::place(&client, &path, None).await?.node;
                        if there.kind != api::Kind::Folder {
                            return Err(Failure::failed(format!("{path} is a file"), "Choose another name."));
                        }
                        there
                    }
                    other => other?,
                };
            }
            node
        } else {
            let parent = connection::place(&client, &folder, None).await?;
            client.make_folder(parent.node.id, &name).await?
        };
        output.object(&made)?;
        Ok(())
    }
}
