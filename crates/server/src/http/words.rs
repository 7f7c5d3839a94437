//! Sentences and lists of words, as they are told.

/// With a capital at its beginning and a stop at its end.
pub fn sentence(text: &str) -> String {
    let mut chars = text.chars();
    let first = chars.next().map(|c| c.to_uppercase().to_string()).unwrap_or_default();
    let end = if text.ends_with(['.', '?']) { "" } else { "." };
    format!("{first}{}{end}", chars.as_str())
}

/// The first letter large.
pub fn capital(text: &str) -> String {
    let mut chars = text.chars();
    chars.next().map_or_else(String::new, |c| c.to_uppercase().collect::<String>() + chars.as_str())
}

/// The words by which somebody looks for something.
pub fn words(text: Option<&str>) -> Vec<String> {
    text.unwrap_or_default().split_whitespace().map(str::to_lowercase).collect()
}
