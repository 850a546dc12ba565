//! The names and numbers of signals.

const SIGNALS: &[(&str, u8)] = &[
    ("HUP", 1),
    ("INT", 2),
    ("QUIT", 3),
    ("ILL", 4),
    ("TRAP", 5),
    ("ABRT", 6),
    ("BUS", 7),
    ("FPE", 8),
    ("KILL", 9),
    ("USR1", 10),
    ("SEGV", 11),
    ("USR2", 12),
    ("PIPE", 13),
    ("ALRM", 14),
    ("TERM", 15),
    ("CHLD", 17),
    ("CONT", 18),
    ("STOP", 19),
    ("TSTP", 20),
    ("TTIN", 21),
    ("TTOU", 22),
    ("URG", 23),
    ("XCPU", 24),
    ("XFSZ", 25),
    ("VTALRM", 26),
    ("PROF", 27),
    ("WINCH", 28),
    ("IO", 29),
    ("PWR", 30),
    ("SYS", 31),
];

/// The engine's name for a signal given as `HUP`, `sighup` or `1`; `None` when there is none.
pub fn signal_name(text: &str) -> Option<String> {
    if let Ok(number) = text.parse::<u8>() {
        return (1..=64).contains(&number).then(|| {
            let named = SIGNALS.iter().find(|(_, n)| *n == number);
            named.map_or_else(|| number.to_string(), |(name, _)| format!("SIG{name}"))
        });
    }
    let upper = text.to_ascii_uppercase();
    let bare = upper.strip_prefix("SIG").unwrap_or(&upper);
    SIGNALS.iter().find(|(name, _)| *name == bare).map(|(name, _)| format!("SIG{name}"))
}
