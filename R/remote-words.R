# R's words as SQL. One translator for what this package computes and for what users write in a condition or a formula.

# How calls are said; each a function of the SQL of the arguments and of the dialect.
sql_words <- list(
  "(" = function(a, d) a[[1L]],
  "+" = function(a, d) sql_operator("+", a),
  "-" = function(a, d) sql_operator("-", a),
  "*" = function(a, d) sql_operator("*", a),
  "/" = function(a, d) sql_operator("/", a),
  "I" = function(a, d) a[[1L]],
  "exp" = function(a, d) sprintf("%s(%s)", d$exp, a[[1L]]),
  "log" = function(a, d) sprintf("%s(%s)", d$log, a[[1L]]),
  "sqrt" = function(a, d) sprintf("SQRT(%s)", a[[1L]]),
  "floor" = function(a, d) sprintf("FLOOR(%s)", a[[1L]]),
  "abs" = function(a, d) sprintf("ABS(%s)", a[[1L]]),
  "pmin" = function(a, d) sprintf("(CASE WHEN %1$s < %2$s THEN %1$s ELSE %2$s END)", a[[1L]], a[[2L]]),
  "pmax" = function(a, d) sprintf("(CASE WHEN %1$s > %2$s THEN %1$s ELSE %2$s END)", a[[1L]], a[[2L]]),
  "ifelse" = function(a, d) sprintf("(CASE WHEN %s THEN %s ELSE %s END)", a[[1L]], a[[2L]], a[[3L]]),
  # below(x, c(b1, b2, ...), v0, v1, ...): v0 where x < b1, v1 where b1 <= x < b2, and so on
  "below" = function(a, d) {
    last <- length(a[[2L]]) + 1L
    cases <- sprintf("WHEN %s < %s THEN %s", a[[1L]], a[[2L]], vapply(a[2L + seq_len(last - 1L)], identity, ""))
    sprintf("(CASE %s ELSE %s END)", paste(cases, collapse = " "), a[[2L + last]])
  },
  # upto(x, c(b1, b2, ...), v0, v1, ...): v0 where x <= b1, and so on
  "upto" = function(a, d) {
    last <- length(a[[2L]]) + 1L
    cases <- sprintf("WHEN %s <= %s THEN %s", a[[1L]], a[[2L]], vapply(a[2L + seq_len(last - 1L)], identity, ""))
    sprintf("(CASE %s ELSE %s END)", paste(cases, collapse = " "), a[[2L + last]])
  },
  "is.na" = function(a, d) sprintf("(%s IS NULL)", a[[1L]]),
  "!" = function(a, d) sprintf("(NOT %s)", a[[1L]]),
  "&" = function(a, d) sql_operator("AND", a),
  "|" = function(a, d) sql_operator("OR", a),
  "==" = function(a, d) sql_operator("=", a),
  "!=" = function(a, d) sql_operator("<>", a),
  "<" = function(a, d) sql_operator("<", a),
  "<=" = function(a, d) sql_operator("<=", a),
  ">" = function(a, d) sql_operator(">", a),
  ">=" = function(a, d) sql_operator(">=", a),
  # is.na(NULL %in% ...) is FALSE in R
  "%in%" = function(a, d) sprintf("(%1$s IS NOT NULL AND %1$s IN (%2$s))", a[[1L]], paste(a[[2L]], collapse = ", ")),
  "c" = function(a, d) unlist(a)
)

# With one argument it is a sign.
sql_operator <- function(word, a) {
  if (length(a) == 1L) sprintf("(%s %s)", word, a[[1L]]) else sprintf("(%s %s %s)", a[[1L]], word, a[[2L]])
}

# Whole powers up to 4 are products, so that they are exact.
sql_power <- function(expr, say, dialect) {
  base <- say(expr[[2L]])
  power <- expr[[3L]]
  if (is.numeric(power) && power %in% 1:4) return(sprintf("(%s)", paste(rep(base, power), collapse = " * ")))
  sprintf("%s(%s, %s)", dialect$power, base, say(power))
}

# Long sums are said without a parenthesis for each: parsers have a depth.
chained <- c("+" = "+", "*" = "*", "&" = "AND", "|" = "OR")

chain_of <- function(expr, word) {
  parts <- list()
  while (is.call(expr) && length(expr) == 3L && identical(expr[[1L]], as.name(word))) {
    parts <- c(list(expr[[3L]]), parts)
    expr <- expr[[2L]]
  }
  c(list(expr), parts)
}

# expr: a call, name or value. name: function(text) giving the SQL of a name; value: function(text) of a string.
sql_of <- function(expr, dialect, name = identity, value = NULL) {
  say <- function(part) sql_of(part, dialect, name, value)
  if (is.name(expr)) return(name(as.character(expr)))
  if (is.numeric(expr)) {
    stopifnot(all(is.finite(expr)))
    return(dialect$number(as.double(expr)))
  }
  if (is.character(expr)) return(vapply(expr, value, ""))
  if (is.logical(expr)) return(ifelse(expr, "TRUE", "FALSE"))
  word <- as.character(expr[[1L]])
  if (word == "^") return(sql_power(expr, say, dialect))
  if (word %in% names(chained) && length(expr) == 3L) {
    return(sprintf("(%s)", paste(vapply(chain_of(expr, word), say, ""), collapse = sprintf(" %s ", chained[[word]]))))
  }
  sql_words[[word]](lapply(as.list(expr)[-1L], say), dialect)
}

# The first call that has no word in SQL, NULL when all have one.
unsaid_word <- function(expr, words = c(names(sql_words), "^")) {
  if (!is.call(expr)) return(NULL)
  head <- expr[[1L]]
  if (!is.name(head) || !as.character(head) %in% words) return(deparse1(head))
  for (part in as.list(expr)[-1L]) {
    found <- unsaid_word(part, words)
    if (!is.null(found)) return(found)
  }
  NULL
}
