//! Expressions: conditions over the fields of a header, as in `when = "type == 1 and not (unit starts 'x')"`.
//!
//! One engine: [`parse`](parse::parse) gives a tree with spans, [`Expression::check`] gives every name its meaning and finds the
//! types, [`Expression::test`] evaluates. What a name stands for is the caller's business.

mod parse;

use alloc::boxed::Box;
use alloc::string::{String, ToString};
use alloc::vec::Vec;
use core::cmp::Ordering;
use core::ops::Range;

use crate::value::Decimal;

pub(crate) use parse::{RESERVED, parse};

/// What is wrong with an expression, and where in its text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExpressionProblem {
    /// The place in the expression's text, in bytes.
    pub span: Range<usize>,
    /// What is wrong there.
    pub kind: ExpressionProblemKind,
}

/// What can be wrong with an expression.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum ExpressionProblemKind {
    /// Something else is needed here.
    #[error("expected {expected}, found {found}")]
    Expected {
        /// What is needed.
        expected: &'static str,
        /// What stands there.
        found: String,
    },
    /// There is no field of that name that can be used here.
    #[error("there is no header field `{name}`")]
    UnknownName {
        /// The name.
        name: String,
        /// The known name that is most like it.
        nearest: Option<String>,
    },
    /// Two things of different types are compared, or something of a wrong type is given to an operator.
    #[error("{operator} needs {expected}, this is {found}")]
    Type {
        /// The operator.
        operator: &'static str,
        /// The type that it needs.
        expected: &'static str,
        /// The type that it got.
        found: &'static str,
    },
    /// Too deep, or too long.
    #[error("the expression has more than {limit} {what}")]
    TooBig {
        /// What there is too much of.
        what: &'static str,
        /// How much is allowed.
        limit: usize,
    },
}

/// The type of an expression.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Type {
    Number,
    Text,
    Condition,
}

impl Type {
    fn word(self) -> &'static str {
        match self {
            Type::Number => "a number",
            Type::Text => "a text",
            Type::Condition => "a condition",
        }
    }
}

/// What a name stands for and its type, or the known name most like it.
pub(crate) type Resolved<N> = Result<(N, Type), Option<String>>;

/// A node of the tree and where it stands. `N` is what a name has become: its text, later the caller's reference.
#[derive(Clone, Debug)]
pub(crate) struct Expression<N> {
    pub(crate) span: Range<usize>,
    pub(crate) node: Node<N>,
}

#[derive(Clone, Debug)]
pub(crate) enum Node<N> {
    Number(Decimal),
    Text(Box<[u8]>),
    Name(N),
    Not(Box<Expression<N>>),
    And(Box<[Expression<N>; 2]>),
    Or(Box<[Expression<N>; 2]>),
    Compare(Comparison, Box<[Expression<N>; 2]>),
    Starts(Box<[Expression<N>; 2]>),
    /// The first is one of the others.
    Among(Vec<Expression<N>>),
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Comparison {
    Equal,
    NotEqual,
    Less,
    LessOrEqual,
    Greater,
    GreaterOrEqual,
}

impl Comparison {
    fn word(self) -> &'static str {
        match self {
            Comparison::Equal => "`==`",
            Comparison::NotEqual => "`!=`",
            Comparison::Less => "`<`",
            Comparison::LessOrEqual => "`<=`",
            Comparison::Greater => "`>`",
            Comparison::GreaterOrEqual => "`>=`",
        }
    }

    fn holds(self, ordering: Ordering) -> bool {
        match self {
            Comparison::Equal => ordering.is_eq(),
            Comparison::NotEqual => ordering.is_ne(),
            Comparison::Less => ordering.is_lt(),
            Comparison::LessOrEqual => ordering.is_le(),
            Comparison::Greater => ordering.is_gt(),
            Comparison::GreaterOrEqual => ordering.is_ge(),
        }
    }
}

/// What a name stands for while evaluating.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(crate) enum Operand<'a> {
    Number(Decimal),
    Float(f64),
    Text(&'a [u8]),
    Absent,
}

impl Expression<String> {
    /// Gives each name its meaning by `resolve` (or says which known name is nearest) and checks the types. The whole must
    /// be a condition. Reports every problem it finds.
    pub(crate) fn check<N>(
        self,
        resolve: &mut dyn FnMut(&str) -> Resolved<N>,
        problems: &mut dyn FnMut(ExpressionProblem),
    ) -> Option<Expression<N>> {
        let span = self.span.clone();
        let (checked, found) = self.resolved(resolve, problems)?;
        require("a `when`", Type::Condition, found, span, problems)?;
        Some(checked)
    }

    fn resolved<N>(
        self,
        resolve: &mut dyn FnMut(&str) -> Resolved<N>,
        problems: &mut dyn FnMut(ExpressionProblem),
    ) -> Option<(Expression<N>, Type)> {
        let span = self.span;
        let mut pair = |pair: Box<[Expression<String>; 2]>, problems: &mut dyn FnMut(ExpressionProblem)| {
            let [a, b] = *pair;
            let spans = [a.span.clone(), b.span.clone()];
            // Both sides are looked at before giving up, so that both can report.
            let (a, b) = (a.resolved(resolve, problems), b.resolved(resolve, problems));
            let ((a, type_a), (b, type_b)) = (a?, b?);
            Some((Box::new([a, b]), [type_a, type_b], spans))
        };
        let (node, found) = match self.node {
            Node::Number(number) => (Node::Number(number), Type::Number),
            Node::Text(text) => (Node::Text(text), Type::Text),
            Node::Name(name) => match resolve(&name) {
                Ok((meaning, found)) => (Node::Name(meaning), found),
                Err(nearest) => {
                    problems(ExpressionProblem { span, kind: ExpressionProblemKind::UnknownName { name, nearest } });
                    return None;
                }
            },
            Node::Not(inner) => {
                let inner_span = inner.span.clone();
                let (inner, found) = inner.resolved(resolve, problems)?;
                require("`not`", Type::Condition, found, inner_span, problems)?;
                (Node::Not(Box::new(inner)), Type::Condition)
            }
            Node::And(sides) => (Node::And(conditions("`and`", pair(sides, problems)?, problems)?), Type::Condition),
            Node::Or(sides) => (Node::Or(conditions("`or`", pair(sides, problems)?, problems)?), Type::Condition),
            Node::Compare(comparison, sides) => {
                let (sides, [a, b], [span_a, span_b]) = pair(sides, problems)?;
                if a == Type::Condition {
                    require(comparison.word(), Type::Number, a, span_a, problems)?;
                }
                require(comparison.word(), a, b, span_b, problems)?;
                (Node::Compare(comparison, sides), Type::Condition)
            }
            Node::Starts(sides) => {
                let (sides, [a, b], [span_a, span_b]) = pair(sides, problems)?;
                require("`starts`", Type::Text, a, span_a, problems)?;
                require("`starts`", Type::Text, b, span_b, problems)?;
                (Node::Starts(sides), Type::Condition)
            }
            Node::Among(parts) => {
                let spans: Vec<_> = parts.iter().map(|part| part.span.clone()).collect();
                let resolved: Vec<_> = parts.into_iter().map(|part| part.resolved(resolve, problems)).collect();
                let (parts, types): (Vec<_>, Vec<_>) =
                    resolved.into_iter().collect::<Option<Vec<_>>>()?.into_iter().unzip();
                let wanted = if types[0] == Type::Condition { Type::Number } else { types[0] };
                let wrong = types
                    .iter()
                    .zip(spans)
                    .filter(|(found, span)| require("`in`", wanted, **found, span.clone(), problems).is_none())
                    .count();
                if wrong > 0 {
                    return None;
                }
                (Node::Among(parts), Type::Condition)
            }
        };
        Some((Expression { span, node }, found))
    }
}

type Pair<N> = (Box<[Expression<N>; 2]>, [Type; 2], [Range<usize>; 2]);

/// The two sides, if both are conditions.
fn conditions<N>(
    operator: &'static str,
    (sides, [a, b], [span_a, span_b]): Pair<N>,
    problems: &mut dyn FnMut(ExpressionProblem),
) -> Option<Box<[Expression<N>; 2]>> {
    let first = require(operator, Type::Condition, a, span_a, problems);
    let second = require(operator, Type::Condition, b, span_b, problems);
    first.and(second).map(|()| sides)
}

fn require(
    operator: &'static str,
    expected: Type,
    found: Type,
    span: Range<usize>,
    problems: &mut dyn FnMut(ExpressionProblem),
) -> Option<()> {
    if expected == found {
        return Some(());
    }
    let kind = ExpressionProblemKind::Type { operator, expected: expected.word(), found: found.word() };
    problems(ExpressionProblem { span, kind });
    None
}

impl<N> Expression<N> {
    /// Whether the condition holds. Something absent makes a comparison neither true nor false; `and`, `or` and `not` carry that
    /// on unless the other side decides, and at the top it counts as false.
    pub(crate) fn test<'a>(&'a self, look: &dyn Fn(&N) -> Operand<'a>) -> bool {
        self.truth(look) == Some(true)
    }

    /// Whether the condition holds, or would if what is absent were something else.
    pub(crate) fn may_hold<'a>(&'a self, look: &dyn Fn(&N) -> Operand<'a>) -> bool {
        self.truth(look) != Some(false)
    }

    /// Calls `take` with every name in it.
    pub(crate) fn names(&self, take: &mut dyn FnMut(&N)) {
        match &self.node {
            Node::Name(name) => take(name),
            Node::Not(inner) => inner.names(take),
            Node::And(sides) | Node::Or(sides) | Node::Compare(_, sides) | Node::Starts(sides) => {
                sides.iter().for_each(|side| side.names(take));
            }
            Node::Among(parts) => parts.iter().for_each(|part| part.names(take)),
            Node::Number(_) | Node::Text(_) => {}
        }
    }

    /// Calls `change` with every name in it.
    pub(crate) fn rename(&mut self, change: &mut dyn FnMut(&mut N)) {
        self.leaves(&mut |node| {
            if let Node::Name(name) = node {
                change(name);
            }
        });
    }

    /// Calls `change` with every text in it.
    pub(crate) fn texts(&mut self, change: &mut dyn FnMut(&mut Box<[u8]>)) {
        self.leaves(&mut |node| {
            if let Node::Text(text) = node {
                change(text);
            }
        });
    }

    /// Calls `change` with every name, number and text in it.
    fn leaves(&mut self, change: &mut dyn FnMut(&mut Node<N>)) {
        match &mut self.node {
            Node::Not(inner) => inner.leaves(change),
            Node::And(sides) | Node::Or(sides) | Node::Compare(_, sides) | Node::Starts(sides) => {
                sides.iter_mut().for_each(|side| side.leaves(change));
            }
            Node::Among(parts) => parts.iter_mut().for_each(|part| part.leaves(change)),
            leaf @ (Node::Name(_) | Node::Number(_) | Node::Text(_)) => change(leaf),
        }
    }

    fn truth<'a>(&'a self, look: &dyn Fn(&N) -> Operand<'a>) -> Option<bool> {
        match &self.node {
            Node::Not(inner) => inner.truth(look).map(|truth| !truth),
            Node::And(sides) => match sides[0].truth(look) {
                Some(false) => Some(false),
                Some(true) => sides[1].truth(look),
                None => sides[1].truth(look).filter(|truth| !truth),
            },
            Node::Or(sides) => match sides[0].truth(look) {
                Some(true) => Some(true),
                Some(false) => sides[1].truth(look),
                None => sides[1].truth(look).filter(|truth| *truth),
            },
            Node::Compare(comparison, sides) => {
                let ordering = sides[0].operand(look).compare(sides[1].operand(look))?;
                Some(comparison.holds(ordering))
            }
            Node::Among(parts) => {
                let (one, others) = parts.split_first()?;
                let one = one.operand(look);
                // As if each were compared, and the comparisons joined by `or`.
                let mut truth = Some(false);
                for other in others {
                    match one.compare(other.operand(look)) {
                        Some(Ordering::Equal) => return Some(true),
                        Some(_) => {}
                        None => truth = None,
                    }
                }
                truth
            }
            Node::Starts(sides) => match (sides[0].operand(look), sides[1].operand(look)) {
                (Operand::Text(a), Operand::Text(b)) => Some(a.starts_with(b)),
                _ => None,
            },
            // What is a condition by itself is a number that is not zero.
            Node::Name(name) => match look(name) {
                Operand::Number(number) => Some(!number.is_zero()),
                _ => None,
            },
            Node::Number(_) | Node::Text(_) => None,
        }
    }

    fn operand<'a>(&'a self, look: &dyn Fn(&N) -> Operand<'a>) -> Operand<'a> {
        match &self.node {
            Node::Number(number) => Operand::Number(*number),
            Node::Text(text) => Operand::Text(text),
            Node::Name(name) => look(name),
            _ => Operand::Absent,
        }
    }
}

impl Operand<'_> {
    /// How the two compare, if neither is absent.
    fn compare(self, other: Operand<'_>) -> Option<Ordering> {
        match (self, other) {
            (Operand::Number(a), Operand::Number(b)) => Some(a.compare(b)),
            (Operand::Text(a), Operand::Text(b)) => Some(a.cmp(b)),
            (Operand::Absent, _) | (_, Operand::Absent) => None,
            (a, b) => a.float()?.partial_cmp(&b.float()?),
        }
    }

    fn float(self) -> Option<f64> {
        match self {
            Operand::Number(number) => Some(number.to_f64()),
            Operand::Float(number) => Some(number),
            Operand::Text(_) | Operand::Absent => None,
        }
    }
}

impl ExpressionProblem {
    pub(crate) fn expected(span: Range<usize>, expected: &'static str, found: &str) -> ExpressionProblem {
        ExpressionProblem { span, kind: ExpressionProblemKind::Expected { expected, found: found.to_string() } }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// `n` is 7, `in` is 3, `t` is "WIMWV", `a` and `b` are absent (a number, a text), `f` is 0.5.
    fn resolve(name: &str) -> Result<(Operand<'static>, Type), Option<String>> {
        match name {
            "n" => Ok((Operand::Number(Decimal::from_integer(7)), Type::Number)),
            "t" => Ok((Operand::Text(b"WIMWV"), Type::Text)),
            "a" => Ok((Operand::Absent, Type::Number)),
            "b" => Ok((Operand::Absent, Type::Text)),
            "in" => Ok((Operand::Number(Decimal::from_integer(3)), Type::Number)),
            "f" => Ok((Operand::Float(0.5), Type::Number)),
            _ => Err(Some("n".to_string())),
        }
    }

    fn evaluate(text: &str) -> Result<bool, Vec<ExpressionProblem>> {
        let mut problems = Vec::new();
        let tree = parse(text).map_err(|problem| [problem].to_vec())?;
        let checked = tree.check(&mut resolve, &mut |problem| problems.push(problem));
        match checked {
            Some(checked) => Ok(checked.test(&|operand| *operand)),
            None => Err(problems),
        }
    }

    #[test]
    fn conditions_evaluate() {
        for (text, wanted) in [
            ("n == 7", true),
            ("n == 0x07 and n != 8", true),
            ("n < 7 or n >= 7.0", true),
            ("n > 7", false),
            ("n <= -1", false),
            ("not n == 7", false),
            ("not (n == 8 or n == 9)", true),
            ("n == 1 or n == 7 and t == 'x'", false),
            ("(n == 1 or n == 7) and t == \"WIMWV\"", true),
            ("t starts 'WI'", true),
            ("t starts 'WIMWVX'", false),
            ("not t starts 'P' and t != 'WIXDR'", true),
            ("f == 0.5", true),
            ("n in [1, 7]", true),
            ("n in [ 0x07 ]", true),
            ("n in [1, 2,3]", false),
            ("not n in [1, 2] and t in ['x', 'WIMWV']", true),
            ("f in [1, 0.5]", true),
            ("in in [in, 2]", true),
            ("a in [1, 7]", false),
            ("not a in [1, 7]", false),
            ("n in [a, 7]", true),
            ("not n in [a, 8]", false),
            ("f < n", true),
            ("a == 7", false),
            ("not a == 7", false),
            ("a != 7", false),
            ("b starts 'x' or n == 7", true),
            ("n == 7 or b starts 'x'", true),
            ("a == 1 and n == 8", false),
            ("not (a == 1 and n == 8)", true),
        ] {
            assert_eq!(evaluate(text), Ok(wanted), "{text}");
        }
    }

    #[test]
    fn problems_name_their_place() {
        for (text, span, message) in [
            ("n = 7", 2..3, "expected a comparison (`==`, `!=`, `<`, `<=`, `>`, `>=`, `starts`, `in`), found `=`"),
            ("", 0..0, "expected a name, a number, a text or `(`, found the end"),
            ("n == ", 5..5, "expected a name, a number, a text or `(`, found the end"),
            ("n == 7 7", 7..8, "expected `and`, `or` or the end, found `7`"),
            ("(n == 7", 7..7, "expected `)`, found the end"),
            ("t == 'WI", 5..8, "expected a closing quote, found the end"),
            ("m == 7", 0..1, "there is no header field `m`"),
            ("n == 'x'", 5..8, "`==` needs a number, this is a text"),
            ("n starts 'x'", 0..1, "`starts` needs a text, this is a number"),
            ("n", 0..1, "a `when` needs a condition, this is a number"),
            ("not n", 4..5, "`not` needs a condition, this is a number"),
            ("n == 7 and t", 11..12, "`and` needs a condition, this is a text"),
            (
                "n == 99999999999999999999999999999999999999999",
                5..46,
                "expected a number of at most 38 digits, found `99999999999999999999999999999999999999999`",
            ),
            ("n in 7", 5..6, "expected a list such as `[1, 2, 5]`, found `7`"),
            ("n in []", 6..7, "expected a name, a number, a text or `(`, found `]`"),
            ("n in [1 2]", 8..9, "expected `,` or `]`, found `2`"),
            ("n in [1, ", 9..9, "expected a name, a number, a text or `(`, found the end"),
            ("n in [1", 7..7, "expected `,` or `]`, found the end"),
            ("n in [1, 'x']", 9..12, "`in` needs a number, this is a text"),
            ("(n == 1) in [1]", 1..7, "`in` needs a number, this is a condition"),
            ("n # 7", 2..3, "expected a comparison (`==`, `!=`, `<`, `<=`, `>`, `>=`, `starts`, `in`), found `#`"),
        ] {
            let problems = evaluate(text).unwrap_err();
            assert_eq!((problems[0].span.clone(), problems[0].kind.to_string().as_str()), (span, message), "{text}");
        }
        assert_eq!(evaluate("m == 1 and k == 'x'").unwrap_err().len(), 2);
    }

    #[test]
    fn depth_and_length_are_bounded() {
        let deep = |depth: usize| alloc::format!("{}n == 7{}", "(".repeat(depth), ")".repeat(depth));
        let limit = crate::limits::EXPRESSION_DEPTH;
        assert_eq!(evaluate(&deep(limit)), Ok(true));
        let too_deep = ExpressionProblemKind::TooBig { what: "levels", limit };
        assert_eq!(evaluate(&deep(limit + 1)).unwrap_err()[0].kind, too_deep);
        let long = |length: usize| alloc::format!("n == 7{}", " ".repeat(length - 6));
        let limit = crate::limits::EXPRESSION_BYTES;
        assert_eq!(evaluate(&long(limit)), Ok(true));
        let too_long = ExpressionProblemKind::TooBig { what: "bytes", limit };
        assert_eq!(evaluate(&long(limit + 1)).unwrap_err()[0].kind, too_long);
        // A long chain without parentheses is a deep tree all the same.
        let chain = "n == 7".to_string() + &" and n == 7".repeat(crate::limits::EXPRESSION_DEPTH + 1);
        assert_eq!(evaluate(&chain), Ok(true));
    }
}
