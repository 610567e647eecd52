//! Patterns with wildcards, in which upper and lower case are the same in every script.

use std::iter::Peekable;
use std::str::Chars;

use regex::bytes::{Regex, RegexBuilder};

/// Any byte that is no separator: names need not be text.
const ANY: &str = "(?-u:[^/])";
/// One letter, or a byte that is none.
const ONE: &str = "(?:[^/]|(?-u:[^/]))";

/// Compiles a pattern of a whole name or path: `*` and `?` within a name, `**` across folders, `[…]`, `{…,…}`.
///
/// # Errors
/// Why it is none.
pub(super) fn compile(pattern: &str) -> Result<Regex, String> {
    let (mut regex, mut groups) = (String::from(r"\A"), 0_u32);
    let mut rest = pattern.chars().peekable();
    while let Some(c) = rest.next() {
        match c {
            '*' if rest.next_if_eq(&'*').is_some() => match rest.next_if_eq(&'/') {
                Some(_) => regex.push_str("(?:(?s-u:.)*/)?"),
                None => regex.push_str("(?s-u:.)*"),
            },
            '*' => regex.extend([ANY, "*"]),
            '?' => regex.push_str(ONE),
            '[' => regex.push_str(&class(&mut rest)?),
            '{' => {
                groups += 1;
                regex.push_str("(?:");
            }
            '}' if groups > 0 => {
                groups -= 1;
                regex.push(')');
            }
            ',' if groups > 0 => regex.push('|'),
            c => regex.push_str(&regex::escape(c.encode_utf8(&mut [0; 4]))),
        }
    }
    if groups > 0 {
        return Err("'{' has no '}'".into());
    }
    regex.push_str(r"\z");
    RegexBuilder::new(&regex).case_insensitive(true).build().map_err(|error| error.to_string())
}

/// What stands in brackets.
fn class(rest: &mut Peekable<Chars<'_>>) -> Result<String, String> {
    let mut class = String::from("[");
    if rest.next_if(|c| ['!', '^'].contains(c)).is_some() {
        class.push('^');
    }
    let mut is_first = true;
    loop {
        match rest.next() {
            None => return Err("'[' has no ']'".into()),
            Some(']') if !is_first => break,
            Some('-') => class.push('-'),
            Some(c) => class.push_str(&regex::escape(c.encode_utf8(&mut [0; 4]))),
        }
        is_first = false;
    }
    class.push(']');
    Ok(class)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn matches(pattern: &str, name: &[u8]) -> bool {
        compile(pattern).unwrap_or_else(|error| panic!("{pattern}: {error}")).is_match(name)
    }

    #[test]
    fn wildcards_stay_within_a_name_unless_there_are_two() {
        assert!(matches("*.odt", b"plan.ODT") && !matches("*.odt", b"plan.odt.bak") && !matches("*.odt", b"a/plan.odt"));
        assert!(matches("**/plans", b"/home/aud/plans") && matches("**/plans", b"plans") && !matches("**/plans", b"/oldplans"));
        assert!(matches("/home/**", b"/home/aud/plans") && !matches("/home/*", b"/home/aud/plans"));
        assert!(
            matches("a?c", b"abc") && matches("a?c", "aüc".as_bytes()) && matches("a?c", b"a\xffc") && !matches("a?c", b"ac")
        );
        assert!(matches("[!a-c]x", b"dx") && !matches("[!a-c]x", b"Bx") && matches("[]]", b"]") && matches("[a.]", b"."));
        assert!(matches("plan.{odt,pdf}", b"plan.pdf") && !matches("plan.{odt,pdf}", b"plan.odt,pdf"));
        assert!(matches("ÜBER*", "über uns".as_bytes()) && matches("*\n*", b"a\nb") && matches("*", b"\xff\n"));
        assert!(matches("a+(b)|$", b"a+(b)|$") && matches("}", b"}"));
        for refused in ["[", "[a", "{", "{a,{b}", "[b-a]"] {
            assert!(compile(refused).is_err(), "{refused}");
        }
    }

    proptest! {
        #[test]
        fn a_name_without_wildcards_matches_itself_and_no_pattern_brings_it_down(name in "\\PC{0,12}", pattern in "[a-c*?\\[\\]{},!^\\\\-]{0,12}") {
            if !name.contains(['*', '?', '[', '{']) {
                prop_assert!(matches(&name, name.as_bytes()));
            }
            let _ = compile(&pattern).map(|compiled| compiled.is_match(name.as_bytes()));
        }
    }
}
