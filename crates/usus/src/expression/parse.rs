//! The parser of expressions.
//!
//! ```text
//! either     = both { "or" both }
//! both       = negation { "and" negation }
//! negation   = "not" negation | comparison
//! comparison = primary [ ( "==" | "!=" | "<" | "<=" | ">" | ">=" | "starts" ) primary | "in" list ]
//! list       = "[" primary { "," primary } "]"
//! primary    = number | text | name | name "(" name ")" | "(" either ")"
//! number     = [ "-" ] ( digits [ "." digits ] | "0x" hex digits )
//! text       = "'" any but "'" "'" | '"' any but '"' '"'
//! name       = [a-z] { [a-z0-9_.] }, but none of: and or not starts
//! ```

use alloc::boxed::Box;
use alloc::format;
use alloc::string::{String, ToString};
use core::ops::Range;

use super::{Comparison, Expression, ExpressionProblem, ExpressionProblemKind, Node};
use crate::limits;
use crate::value::Decimal;

/// Words that cannot be names in an expression. `in` can: names of values (inlet, inch) are often so short, and where it joins
/// there can be no name.
pub(crate) const RESERVED: [&str; 4] = ["and", "or", "not", "starts"];

/// Parses `text` into a tree with the names as they are written.
pub(crate) fn parse(text: &str) -> Result<Expression<String>, ExpressionProblem> {
    if text.len() > limits::EXPRESSION_BYTES {
        return Err(too_big(0..text.len(), "bytes", limits::EXPRESSION_BYTES));
    }
    let mut parser = Parser { text, at: 0, depth: 0 };
    let tree = parser.either()?;
    match parser.peek()? {
        (Token::End, _) => Ok(tree),
        (_, span) => Err(parser.expected("`and`, `or` or the end", span)),
    }
}

fn too_big(span: Range<usize>, what: &'static str, limit: usize) -> ExpressionProblem {
    ExpressionProblem { span, kind: ExpressionProblemKind::TooBig { what, limit } }
}

#[derive(Clone, Debug, PartialEq)]
enum Token<'t> {
    Word(&'t str),
    Number(Decimal),
    Text(&'t str),
    Compare(Comparison),
    Open,
    Close,
    ListOpen,
    ListClose,
    Comma,
    Other,
    End,
}

struct Parser<'t> {
    text: &'t str,
    at: usize,
    depth: usize,
}

impl<'t> Parser<'t> {
    fn either(&mut self) -> Result<Expression<String>, ExpressionProblem> {
        let mut left = self.both()?;
        while self.take_word("or")? {
            left = join(left, self.both()?, Node::Or);
        }
        Ok(left)
    }

    fn both(&mut self) -> Result<Expression<String>, ExpressionProblem> {
        let mut left = self.negation()?;
        while self.take_word("and")? {
            left = join(left, self.negation()?, Node::And);
        }
        Ok(left)
    }

    fn negation(&mut self) -> Result<Expression<String>, ExpressionProblem> {
        let (token, span) = self.peek()?;
        if token != Token::Word("not") {
            return self.comparison();
        }
        self.at = span.end;
        self.deeper(span.clone())?;
        let inner = self.negation()?;
        self.depth -= 1;
        Ok(Expression { span: span.start..inner.span.end, node: Node::Not(Box::new(inner)) })
    }

    fn comparison(&mut self) -> Result<Expression<String>, ExpressionProblem> {
        let left = self.primary()?;
        let (token, span) = self.peek()?;
        match token {
            Token::Compare(comparison) => {
                self.at = span.end;
                let right = self.primary()?;
                Ok(join(left, right, |sides| Node::Compare(comparison, sides)))
            }
            Token::Word("starts") => {
                self.at = span.end;
                let right = self.primary()?;
                Ok(join(left, right, Node::Starts))
            }
            Token::Word("in") => {
                self.at = span.end;
                self.list(left)
            }
            Token::Other => Err(self.expected("a comparison (`==`, `!=`, `<`, `<=`, `>`, `>=`, `starts`, `in`)", span)),
            _ => Ok(left),
        }
    }

    /// What `left` may be one of.
    fn list(&mut self, left: Expression<String>) -> Result<Expression<String>, ExpressionProblem> {
        let start = left.span.start;
        let mut parts = [left].to_vec();
        let (token, span) = self.peek()?;
        if token != Token::ListOpen {
            return Err(self.expected("a list such as `[1, 2, 5]`", span));
        }
        self.at = span.end;
        loop {
            parts.push(self.primary()?);
            let (token, span) = self.peek()?;
            self.at = span.end;
            match token {
                Token::Comma => {}
                Token::ListClose => return Ok(Expression { span: start..span.end, node: Node::Among(parts) }),
                _ => return Err(self.expected("`,` or `]`", span)),
            }
        }
    }

    fn primary(&mut self) -> Result<Expression<String>, ExpressionProblem> {
        let (token, span) = self.peek()?;
        let node = match token {
            Token::Number(number) => Node::Number(number),
            Token::Text(text) => Node::Text(text.as_bytes().into()),
            Token::Word(word) if !RESERVED.contains(&word) => {
                self.at = span.end;
                let (next, open) = self.peek()?;
                // What is made of a name, as in `count(rows)`, is a name, too.
                if next == Token::Open && open.start == span.end {
                    return self.made_of(word, span.start, open.end);
                }
                Node::Name(word.to_string())
            }
            Token::Open => {
                self.at = span.end;
                self.deeper(span)?;
                let inner = self.either()?;
                self.depth -= 1;
                let (token, span) = self.peek()?;
                if token != Token::Close {
                    return Err(self.expected("`)`", span));
                }
                self.at = span.end;
                return Ok(inner);
            }
            _ => return Err(self.expected("a name, a number, a text or `(`", span)),
        };
        self.at = span.end;
        Ok(Expression { span, node })
    }

    /// What a word makes of a name in parentheses, from behind the first of them.
    fn made_of(&mut self, word: &str, start: usize, from: usize) -> Result<Expression<String>, ExpressionProblem> {
        self.at = from;
        let (token, span) = self.peek()?;
        let Token::Word(name) = token else { return Err(self.expected("a name", span)) };
        self.at = span.end;
        let (token, span) = self.peek()?;
        if token != Token::Close {
            return Err(self.expected("`)`", span));
        }
        self.at = span.end;
        Ok(Expression { span: start..span.end, node: Node::Name(format!("{word}({name})")) })
    }

    fn deeper(&mut self, span: Range<usize>) -> Result<(), ExpressionProblem> {
        self.depth += 1;
        if self.depth > limits::EXPRESSION_DEPTH {
            return Err(too_big(span, "levels", limits::EXPRESSION_DEPTH));
        }
        Ok(())
    }

    fn take_word(&mut self, word: &str) -> Result<bool, ExpressionProblem> {
        let (token, span) = self.peek()?;
        let found = token == Token::Word(word);
        if found {
            self.at = span.end;
        }
        Ok(found)
    }

    fn expected(&self, expected: &'static str, span: Range<usize>) -> ExpressionProblem {
        let found = match &self.text[span.clone()] {
            "" => "the end".to_string(),
            token => format!("`{token}`"),
        };
        ExpressionProblem::expected(span, expected, &found)
    }

    /// The next token and its place, without taking it.
    fn peek(&self) -> Result<(Token<'t>, Range<usize>), ExpressionProblem> {
        let rest = &self.text[self.at..];
        let start = self.at + rest.len() - rest.trim_start().len();
        let rest = rest.trim_start();
        let Some(first) = rest.chars().next() else {
            return Ok((Token::End, start..start));
        };
        let two = rest.get(..2).unwrap_or_default();
        let (token, length) = match first {
            '(' => (Token::Open, 1),
            ')' => (Token::Close, 1),
            '[' => (Token::ListOpen, 1),
            ']' => (Token::ListClose, 1),
            ',' => (Token::Comma, 1),
            '\'' | '"' => match rest[1..].find(first) {
                Some(end) => (Token::Text(&rest[1..=end]), end + 2),
                None => return Err(ExpressionProblem::expected(start..self.text.len(), "a closing quote", "the end")),
            },
            '0'..='9' | '-' => return self.number(start),
            'a'..='z' => {
                let word = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_' || c == '.';
                let length = rest.find(|c| !word(c)).unwrap_or(rest.len());
                (Token::Word(&rest[..length]), length)
            }
            _ => match two {
                "==" => (Token::Compare(Comparison::Equal), 2),
                "!=" => (Token::Compare(Comparison::NotEqual), 2),
                "<=" => (Token::Compare(Comparison::LessOrEqual), 2),
                ">=" => (Token::Compare(Comparison::GreaterOrEqual), 2),
                _ if first == '<' => (Token::Compare(Comparison::Less), 1),
                _ if first == '>' => (Token::Compare(Comparison::Greater), 1),
                _ => (Token::Other, first.len_utf8()),
            },
        };
        Ok((token, start..start + length))
    }

    fn number(&self, start: usize) -> Result<(Token<'t>, Range<usize>), ExpressionProblem> {
        let rest = &self.text[start..];
        let part = |c: char| c.is_ascii_alphanumeric() || c == '.';
        let length = 1 + rest[1..].find(|c| !part(c)).unwrap_or(rest.len() - 1);
        let literal = &rest[..length];
        let number = match literal.strip_prefix("0x") {
            Some(digits) => u64::from_str_radix(digits, 16).ok().map(Decimal::from_unsigned),
            None => Decimal::parse(literal.as_bytes()),
        };
        match number {
            Some(number) => Ok((Token::Number(number), start..start + length)),
            None => Err(ExpressionProblem::expected(
                start..start + length,
                "a number of at most 38 digits",
                &format!("`{literal}`"),
            )),
        }
    }
}

fn join(
    left: Expression<String>,
    right: Expression<String>,
    make: impl FnOnce(Box<[Expression<String>; 2]>) -> Node<String>,
) -> Expression<String> {
    Expression { span: left.span.start..right.span.end, node: make(Box::new([left, right])) }
}
