//! Variables in values: `${NAME}`, defaults, required values and replacements, nested, as the Compose Specification
//! defines them (chapter "Interpolation").
//!
//! Parsing and filling in are apart, so that the variables of a text can be listed before any of them is known. Not here:
//! where values are ([`super::interpolate`]) and where variables come from ([`super::dotenv`]).

use std::fmt;

/// How deep defaults may appear in defaults.
const DEEPEST: usize = 16;
/// The longest value once it is filled in, in bytes.
pub const LONGEST_FILLED: usize = 1024 * 1024;

/// What a text cannot be read for.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{sentence}")]
pub struct TemplateError {
    /// Where in the text, in bytes.
    pub offset: usize,
    /// What is wrong and what to write instead.
    pub sentence: String,
}

/// A variable that must have a value and has none.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum FillError {
    /// The text demands it.
    #[error("'{name}' must be set{}", demand(.message))]
    Missing {
        /// The variable.
        name: String,
        /// What the text says for this case; may be empty.
        message: String,
    },
    /// What comes out is too long.
    #[error("the value exceeds {LONGEST_FILLED} bytes after substitution")]
    TooLong,
}

fn demand(message: &str) -> String {
    if message.is_empty() { String::new() } else { format!(": {message}") }
}

/// What becomes of a variable that has no value and no default.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unset {
    /// It is empty, and refused where the text demands it.
    Empty,
    /// It stays as it is, for a person to fill in.
    Kept,
}

/// What is behind the name of a variable.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Operator {
    /// `-`: this instead where it has no value.
    Default,
    /// `?`: it must have a value; this is said where it has none.
    Require,
    /// `+`: this instead where it has a value.
    Replace,
}

impl Operator {
    fn sign(self) -> char {
        match self {
            Self::Default => '-',
            Self::Require => '?',
            Self::Replace => '+',
        }
    }
}

/// A variable in a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Variable {
    /// Its name.
    pub name: String,
    /// Where it begins in the text, in bytes.
    pub offset: usize,
    /// What is behind its name, and whether an empty value counts as none (`:-`, `:?`, `:+`).
    pub otherwise: Option<(Operator, bool, Template)>,
}

/// A part of a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Part {
    /// As it stands.
    Text(String),
    /// A variable.
    Variable(Box<Variable>),
}

/// A text with variables.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Template(pub Vec<Part>);

impl Template {
    /// Reads a text.
    ///
    /// # Errors
    /// Where a `$` begins nothing that can be read.
    ///
    /// ```
    /// use gubernum_core::compose::template::{Template, Unset};
    /// let port = Template::read("${PORT:-8080}/tcp").unwrap();
    /// assert_eq!(port.fill(Unset::Empty, &|_| None).unwrap(), "8080/tcp");
    /// assert_eq!(port.fill(Unset::Empty, &|_| Some("90".into())).unwrap(), "90/tcp");
    /// ```
    pub fn read(text: &str) -> Result<Self, TemplateError> {
        let mut reader = Reader { text, at: 0 };
        reader.template(0)
    }

    /// Whether there are no variables in it, and its text then.
    pub fn plain(&self) -> Option<&str> {
        match &self.0[..] {
            [] => Some(""),
            [Part::Text(text)] => Some(text),
            _ => None,
        }
    }

    /// Fills in the values that `lookup` gives; a variable without one that the text does not demand is empty.
    ///
    /// # Errors
    /// The first variable that must have a value and has none, or that the whole becomes too long.
    pub fn fill(&self, unset: Unset, lookup: &impl Fn(&str) -> Option<String>) -> Result<String, FillError> {
        let mut out = String::new();
        self.fill_into(&mut out, unset, lookup)?;
        Ok(out)
    }

    fn fill_into(
        &self,
        out: &mut String,
        unset: Unset,
        lookup: &impl Fn(&str) -> Option<String>,
    ) -> Result<(), FillError> {
        for part in &self.0 {
            match part {
                Part::Text(text) => out.push_str(text),
                Part::Variable(variable) => variable.fill_into(out, unset, lookup)?,
            }
            if out.len() > LONGEST_FILLED {
                return Err(FillError::TooLong);
            }
        }
        Ok(())
    }

    /// Every variable in it, those in defaults among them, in the order in which they stand.
    pub fn variables(&self) -> Vec<&Variable> {
        let mut all = Vec::new();
        self.collect(&mut all);
        all
    }

    fn collect<'a>(&'a self, all: &mut Vec<&'a Variable>) {
        for part in &self.0 {
            if let Part::Variable(variable) = part {
                all.push(variable);
                if let Some((_, _, inner)) = &variable.otherwise {
                    inner.collect(all);
                }
            }
        }
    }
}

impl Variable {
    fn fill_into(
        &self,
        out: &mut String,
        unset: Unset,
        lookup: &impl Fn(&str) -> Option<String>,
    ) -> Result<(), FillError> {
        let value = lookup(&self.name);
        let Some((operator, empty_is_none, inner)) = &self.otherwise else {
            match (value, unset) {
                (Some(value), _) => out.push_str(&value),
                (None, Unset::Empty) => {}
                (None, Unset::Kept) => out.push_str(&format!("${{{}}}", self.name)),
            }
            return Ok(());
        };
        let value = value.filter(|v| !(*empty_is_none && v.is_empty()));
        match (operator, value) {
            (Operator::Default | Operator::Require, Some(value)) => out.push_str(&value),
            (Operator::Default, None) | (Operator::Replace, Some(_)) => {
                inner.fill_into(out, unset, lookup)?
            }
            (Operator::Replace, None) => {}
            (Operator::Require, None) if unset == Unset::Kept => out.push_str(&format!("${{{}}}", self.name)),
            (Operator::Require, None) => {
                let message = inner.fill(unset, lookup)?;
                return Err(FillError::Missing { name: self.name.clone(), message });
            }
        }
        Ok(())
    }
}

impl fmt::Display for Template {
    /// As it is written, so that it is read back as the same.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for part in &self.0 {
            match part {
                Part::Text(text) => f.write_str(&text.replace('$', "$$"))?,
                Part::Variable(variable) => {
                    write!(f, "${{{}", variable.name)?;
                    if let Some((operator, empty_is_none, inner)) = &variable.otherwise {
                        let colon = if *empty_is_none { ":" } else { "" };
                        write!(f, "{colon}{}{inner}", operator.sign())?;
                    }
                    f.write_str("}")?;
                }
            }
        }
        Ok(())
    }
}

struct Reader<'a> {
    text: &'a str,
    at: usize,
}

impl Reader<'_> {
    fn rest(&self) -> &str {
        &self.text[self.at..]
    }

    fn wrong(&self, offset: usize, sentence: impl Into<String>) -> TemplateError {
        TemplateError { offset, sentence: sentence.into() }
    }

    /// Reads to the end of the text, or, inside a variable, to its `}`.
    fn template(&mut self, depth: usize) -> Result<Template, TemplateError> {
        let mut parts = Vec::new();
        let mut text = String::new();
        while let Some(c) = self.rest().chars().next() {
            if c == '}' && depth > 0 {
                break;
            }
            if c != '$' {
                text.push(c);
                self.at += c.len_utf8();
                continue;
            }
            if self.rest().starts_with("$$") {
                text.push('$');
                self.at += 2;
                continue;
            }
            let variable = self.variable(depth)?;
            if !text.is_empty() {
                parts.push(Part::Text(std::mem::take(&mut text)));
            }
            parts.push(Part::Variable(Box::new(variable)));
        }
        if !text.is_empty() {
            parts.push(Part::Text(text));
        }
        Ok(Template(parts))
    }

    /// Reads a variable; the text is at its `$`.
    fn variable(&mut self, depth: usize) -> Result<Variable, TemplateError> {
        let offset = self.at;
        self.at += 1;
        let is_braced = self.rest().starts_with('{');
        self.at += usize::from(is_braced);
        let is_in_name =
            |(n, c): &(usize, char)| c.is_ascii_alphabetic() || *c == '_' || (*n > 0 && c.is_ascii_digit());
        let name: String = self.rest().chars().enumerate().take_while(is_in_name).map(|(_, c)| c).collect();
        if name.is_empty() {
            let sentence = "no variable name after '$'; write '$$' for a dollar sign, or '${NAME}'";
            return Err(self.wrong(offset, sentence));
        }
        self.at += name.len();
        if !is_braced {
            return Ok(Variable { name, offset, otherwise: None });
        }
        let empty_is_none = self.rest().starts_with(':');
        self.at += usize::from(empty_is_none);
        let operator = match self.rest().chars().next() {
            Some('}') if !empty_is_none => {
                self.at += 1;
                return Ok(Variable { name, offset, otherwise: None });
            }
            Some('-') => Operator::Default,
            Some('?') => Operator::Require,
            Some('+') => Operator::Replace,
            None => return Err(self.unclosed(offset, &name)),
            Some(_) => {
                let sentence = format!(
                    "after '${{{name}' write '}}', or one of ':-' '-' ':?' '?' ':+' '+' with a value"
                );
                return Err(self.wrong(self.at, sentence));
            }
        };
        self.at += 1;
        if depth >= DEEPEST {
            let sentence = format!("variable defaults are nested more than {DEEPEST} deep");
            return Err(self.wrong(offset, sentence));
        }
        let inner = self.template(depth + 1)?;
        if !self.rest().starts_with('}') {
            return Err(self.unclosed(offset, &name));
        }
        self.at += 1;
        Ok(Variable { name, offset, otherwise: Some((operator, empty_is_none, inner)) })
    }

    fn unclosed(&self, offset: usize, name: &str) -> TemplateError {
        self.wrong(offset, format!("'${{{name}' is not closed; add '}}'"))
    }
}

#[cfg(test)]
#[path = "template_tests.rs"]
mod tests;
