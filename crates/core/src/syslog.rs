//! An entry of the audit log as a message of the syslog protocol (RFC 5424), framed by its length (RFC 6587 3.4.1, RFC 5425 4.3).
//! How it is sent is `server::timeline::syslog`.

use crate::audit::AuditEntry;

/// Security and authorization messages of the audit facility (RFC 5424, 6.2.1: "log audit").
const FACILITY: u8 = 13;
const WARNING: u8 = 4;
const NOTICE: u8 = 5;
/// The private number under which the structured data stands; 32473 is set aside for those who have none (RFC 5612).
const DATA_ID: &str = "audit@32473";

/// A message, framed.
///
/// `host` is the service's machine.
pub fn framed(entry: &AuditEntry, host: &str) -> Vec<u8> {
    let message = message(entry, host);
    format!("{} {message}", message.len()).into_bytes()
}

fn message(entry: &AuditEntry, host: &str) -> String {
    let refused = entry.outcome.starts_with("refused") || entry.outcome.starts_with("failed");
    let priority = FACILITY * 8 + if refused { WARNING } else { NOTICE };
    let time = entry.time.strftime("%Y-%m-%dT%H:%M:%S%.6fZ");
    let data: String = [
        ("id", entry.id.to_string()),
        ("member", entry.member.clone()),
        ("address", entry.address.clone()),
        ("via", entry.via.clone()),
        ("action", entry.action.clone()),
        ("object", entry.object.clone()),
        ("outcome", entry.outcome.clone()),
        ("hash", entry.hash.clone()),
    ]
    .iter()
    .map(|(name, value)| format!(" {name}=\"{}\"", escaped(value)))
    .collect();
    let text = format!("{} {} {}: {}", entry.member, entry.action, entry.object, entry.outcome);
    // The text is UTF-8 and says so by its mark (RFC 5424, 6.4).
    format!(
        "<{priority}>1 {time} {} gubernum - {} [{DATA_ID}{data}] \u{feff}{}",
        word(host, 255),
        word(&entry.action, 32),
        text.replace(|c: char| c.is_control(), " ")
    )
}

/// A header's word: printable ASCII without spaces, or the nil value.
fn word(text: &str, most: usize) -> String {
    let word: String = text.chars().filter(|c| c.is_ascii_graphic()).take(most).collect();
    if word.is_empty() { "-".to_owned() } else { word }
}

/// A value of structured data: `"`, `\` and `]` are escaped (RFC 5424, 6.3.3).
fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in text.chars() {
        if matches!(c, '"' | '\\' | ']') {
            out.push('\\');
        }
        out.push(if c.is_control() { ' ' } else { c });
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    fn entry(outcome: &str) -> AuditEntry {
        AuditEntry {
            id: 7,
            time: "2026-05-04T03:02:01.5Z".parse().unwrap(),
            member: "mara".to_owned(),
            address: "::1".to_owned(),
            action: "restart".to_owned(),
            object: "packhouse/mast".to_owned(),
            outcome: outcome.to_owned(),
            hash: "ab12".to_owned(),
            via: "session 3".to_owned(),
        }
    }

    #[test]
    fn a_message_is_framed_by_its_length_in_bytes() {
        let framed = String::from_utf8(framed(&entry("succeeded: ü"), "shed 4")).unwrap();
        let (length, message) = framed.split_once(' ').unwrap();
        assert_eq!(length.parse::<usize>().unwrap(), message.len());
        assert_eq!(
            message,
            "<109>1 2026-05-04T03:02:01.500000Z shed4 gubernum - restart [audit@32473 id=\"7\" member=\"mara\" address=\"::1\" \
             via=\"session 3\" action=\"restart\" object=\"packhouse/mast\" outcome=\"succeeded: ü\" hash=\"ab12\"] \u{feff}mara restart packhouse/mast: succeeded: ü"
        );
    }

    #[test]
    fn what_was_refused_is_a_warning_and_nothing_breaks_out_of_its_value() {
        let framed = String::from_utf8(framed(&entry("refused: a\"]\n<0>1 \\"), "")).unwrap();
        assert!(
            framed.contains("<108>1 ") && framed.contains("outcome=\"refused: a\\\"\\] <0>1 \\\\\""),
            "{framed}"
        );
        assert!(!framed.contains('\n') && framed.contains("Z - gubernum"), "{framed}");
    }
}
