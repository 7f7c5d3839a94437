//! Printing that ends quietly when nobody reads on: `yattic ls | head` is no failure.

use std::io::Write;

/// Writes to standard output. Whoever has closed it wants no more: the command ends, as it would by the signal.
pub fn write(text: std::fmt::Arguments<'_>) {
    let mut out = std::io::stdout().lock();
    if let Err(error) = out.write_fmt(text).and_then(|()| out.flush()) {
        if error.kind() == std::io::ErrorKind::BrokenPipe {
            std::process::exit(0);
        }
        eprintln!("yattic: standard output: {error}");
        std::process::exit(1);
    }
}

/// As the standard one, without its panic.
macro_rules! println {
    () => { $crate::print::write(format_args!("\n")) };
    ($($text:tt)*) => { $crate::print::write(format_args!("{}\n", format_args!($($text)*))) };
}

/// As the standard one, without its panic.
macro_rules! print {
    ($($text:tt)*) => { $crate::print::write(format_args!($($text)*)) };
}
