//! How a letter looks.

/// What a letter says.
pub struct Letter<'a> {
    /// What it is about, in a word.
    pub kind: &'static str,
    /// To which address.
    pub to: &'a str,
    /// Its subject.
    pub subject: String,
    /// Its paragraphs.
    pub paragraphs: Vec<String>,
    /// Something to open: what it is, and its address.
    pub open: Option<(&'a str, String)>,
}

/// A letter as plain text and as HTML, without pictures or anything else that is fetched.
pub fn compose(organisation: &str, says: &Letter<'_>) -> (String, String) {
    let mut plain = says.paragraphs.join("\n\n");
    let mut rich: String = says
        .paragraphs
        .iter()
        .map(|p| format!("<p style=\"margin:0 0 16px\">{}</p>", escaped(p).replace('\n', "<br>")))
        .collect();
    if let Some((label, address)) = &says.open {
        plain.push_str(&format!("\n\n{label}:\n{address}"));
        let address = escaped(address);
        rich.push_str(&format!(
            "<p style=\"margin:24px 0\"><a href=\"{address}\" style=\"background:#F5B916;color:#201D18;padding:12px 18px;\
             border-radius:8px;text-decoration:none;font-weight:bold\">{}</a></p>\
             <p style=\"margin:0 0 16px;color:#6B6457;font-size:13px;word-break:break-all\">{address}</p>",
            escaped(label)
        ));
    }
    let foot = format!("This was sent by {organisation}. If it is not meant for you, do nothing.");
    plain.push_str(&format!("\n\n-- \n{foot}\n"));
    let rich = format!(
        "<!doctype html><html lang=\"en\"><head><meta charset=\"utf-8\"><title>{title}</title></head>\
         <body style=\"margin:0;background:#FCFAF4;color:#201D18;font:16px/1.5 sans-serif\">\
         <div style=\"max-width:560px;margin:0 auto;padding:32px 20px\">\
         <p style=\"margin:0 0 24px;font-weight:bold\">{org}</p>{rich}\
         <p style=\"margin:32px 0 0;padding-top:16px;border-top:1px solid #E6DFD0;color:#6B6457;font-size:13px\">{foot}</p>\
         </div></body></html>",
        title = escaped(&says.subject),
        org = escaped(organisation),
        foot = escaped(&foot),
    );
    (plain, rich)
}

pub fn escaped(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}
