# Rows that stay in their table. A row's quantities (linear score, weight, influence) are words: each an expression in R
# of the columns and of other words. A statement puts the words it needs into SELECTs one upon the other, each fenced so
# that the engine works out a word once, and asks for sums. They are common table expressions: nested in parentheses,
# a dozen overflow parsers.

# base: SQL by word of the table's own columns; where: conditions in SQL. The words of a study and of everything made
# from it are kept in one place and never change, so that quantities of two designs can be summed side by side.
new_rows <- function(source, base, where) {
  rows <- new.env(parent = emptyenv())
  rows$source <- source
  rows$base <- base
  rows$where <- where
  rows$words <- list()
  rows$depth <- integer()
  rows$count <- NULL
  rows
}

# A new word for what expr (a call in known words) gives; returns its name. What is said already keeps its word.
# Columns' words begin with u_, others with w_.
say_word <- function(rows, stem, expr) {
  if (is.name(expr)) return(expr)
  same <- match(TRUE, vapply(rows$words, identical, NA, expr))
  if (!is.na(same)) return(as.name(names(rows$words)[same]))
  name <- sprintf("w_%s%d", stem, length(rows$words) + 1L)
  used <- intersect(all.vars(expr), names(rows$words))
  rows$words[[name]] <- expr
  rows$depth[[name]] <- max(0L, rows$depth[used]) + 1L
  as.name(name)
}

# 1 for units of an arm, 0 else.
arm_words <- list(treated = quote(u_z), control = quote((1 - u_z)))

# a + b + ... of many, left to right.
sum_of <- function(parts) Reduce(function(a, b) call("+", a, b), parts)

# start + x'd as a call; entries of d that are 0 are left out.
line_of <- function(names, d, start = 0) {
  kept <- which(d != 0)
  sum_of(c(list(start), lapply(kept, function(k) call("*", d[[k]], names[[k]]))))
}

where_sql <- function(where) if (length(where) > 0L) paste(" WHERE", paste(where, collapse = " AND ")) else ""

# "WITH ... SELECT what FROM ..." with all words that those `needed` lean on.
select_words <- function(rows, what, needed, rest = NULL) {
  dialect <- rows$source$dialect
  all <- needed
  repeat {  # words that words lean on
    more <- setdiff(unlist(lapply(rows$words[intersect(all, names(rows$words))], all.vars)), all)
    if (length(more) == 0L) break
    all <- c(all, more)
  }
  words <- intersect(names(rows$words), all)
  base <- intersect(names(rows$base), all)
  named <- function(level, sql) sprintf("twin_rows_%d AS (%s)", level, paste(c(sql, dialect$fence), collapse = " "))
  steps <- named(0L, paste0("SELECT ", paste(sprintf("%s AS %s", rows$base[base], base), collapse = ", "), " FROM ",
                            rows$source$from, where_sql(rows$where)))
  wanted_above <- function(level) {
    above <- words[rows$depth[words] > level]
    unique(c(needed, unlist(lapply(rows$words[above], all.vars))))
  }
  last <- max(0L, rows$depth[words])
  for (level in seq_len(last)) {
    own <- words[rows$depth[words] == level]
    passed <- intersect(c(base, words[rows$depth[words] < level]), wanted_above(level))
    said <- vapply(rows$words[own], sql_of, "", dialect)
    columns <- paste(c(passed, sprintf("%s AS %s", said, own)), collapse = ", ")
    steps <- c(steps, named(level, sprintf("SELECT %s FROM twin_rows_%d", columns, level - 1L)))
  }
  paste(c(paste("WITH", paste(steps, collapse = ", ")), sprintf("SELECT %s FROM twin_rows_%d", what, last), rest),
        collapse = " ")
}

# 1 for units that a weight keeps.
kept_call <- function(weight) bquote(ifelse(.(weight) > 0, 1, 0))

# Sums over all rows of each expression, named as these are. Each statement counts the rows too: a table that has others
# than the study was framed with has changed.
row_sums <- function(rows, exprs) row_aggregates(rows, "SUM", exprs)

row_ends <- function(rows, exprs) {
  both <- row_aggregates(rows, rep(c("MIN", "MAX"), each = length(exprs)), c(exprs, exprs))
  list(least = both[seq_along(exprs)], most = both[-seq_along(exprs)])
}

# The same among rows of positive weight s.
row_ends_inside <- function(rows, words, s) {
  inside <- function(other) lapply(words, function(word) bquote(ifelse(.(s) > 0, .(word), .(other))))
  both <- row_aggregates(rows, rep(c("MIN", "MAX"), each = length(words)), unname(c(inside(1e300), inside(-1e300))))
  list(least = both[seq_along(words)], most = both[-seq_along(words)])
}

row_aggregates <- function(rows, aggregate, exprs) {
  stopifnot(length(exprs) > 0L)
  dialect <- rows$source$dialect
  said <- sprintf("%s(%s)", aggregate, vapply(exprs, sql_of, "", dialect))
  out <- stats::setNames(numeric(length(exprs)), names(exprs))
  for (block in statement_blocks(said, dialect)) {
    what <- sprintf("CAST(COUNT(*) AS %s), %s", dialect$type, paste(said[block], collapse = ", "))
    needed <- unique(unlist(lapply(exprs[block], all.vars)))
    found <- as_doubles(ask_source(rows$source, select_words(rows, what, needed),
                                   c("sum", tolower(rep_len(aggregate, length(exprs))[block]))))
    check_row_count(rows, found[1L])
    if (!all(is.finite(found))) stop_not_finite(rows)
    out[block] <- found[-1L]
  }
  out
}

# Sums (or other aggregates, one for each expression) by groups of one or two words: a data frame of the keys and sums.
row_sums_by <- function(rows, exprs, keys, aggregate = "SUM", most = NULL) {
  said <- vapply(exprs, sql_of, "", rows$source$dialect)
  keyed <- paste(keys, collapse = ", ")
  what <- paste0(keyed, ", ", paste0(aggregate, "(", said, ") AS s", seq_along(said), collapse = ", "))
  needed <- unique(c(keys, unlist(lapply(exprs, all.vars))))
  rest <- c(paste("GROUP BY", keyed), if (!is.null(most)) sprintf("LIMIT %d", most))
  found <- ask_source(rows$source, select_words(rows, what, needed, rest),
                      c(rep("key", length(keys)), tolower(rep_len(aggregate, length(exprs)))))
  out <- found[seq_along(keys)]
  names(out) <- keys
  number <- !keys %in% c("u_g", "u_h")  # clusters and strata may be text
  out[] <- Map(function(key, number) if (number || inherits(key, "integer64")) as_double(key) else key, out, number)
  sums <- lapply(found[-seq_along(keys)], as_double)
  out[names(exprs)] <- sums
  out[do.call(order, c(unname(as.list(out[keys])), list(method = "radix"))), , drop = FALSE]
}

# Values of expressions in rows that meet a condition, a call; with `order` the greatest of the first of these names
# first, ties in the order of the others; at most `most` rows. For a few rows only.
row_values <- function(rows, exprs, condition, order = NULL, most = NULL) {
  dialect <- rows$source$dialect
  said <- vapply(exprs, sql_of, "", dialect)
  needed <- unique(unlist(lapply(c(exprs, list(condition)), all.vars)))
  place <- match(order, names(exprs))
  places <- paste0("a", place, c(" DESC", rep("", max(0L, length(place) - 1L))), collapse = ", ")
  rest <- c(paste("WHERE", sql_of(condition, dialect)), if (length(order) > 0L) paste("ORDER BY", places),
            if (!is.null(most)) sprintf("LIMIT %d", most))
  found <- ask_source(rows$source, select_words(rows, paste0(said, " AS a", seq_along(said), collapse = ", "), needed,
                                                rest), rep("row", length(exprs)))
  names(found) <- names(exprs)
  text <- names(exprs) == "unit"
  found[!text] <- lapply(found[!text], as_double)
  if (length(order) == 0L || is.null(rows$source$shards)) return(found)
  places <- do.call(base::order, c(list(-found[[order[1L]]]), unname(found[order[-1L]])))
  found <- found[utils::head(places, if (is.null(most)) Inf else most), , drop = FALSE]
  rownames(found) <- NULL
  found
}

# Places of expressions that go into one statement.
statement_blocks <- function(said, dialect) {
  block <- cumsum_blocks(nchar(said) + 8L, dialect$most$characters / 4, dialect$most$columns - 10L)
  split(seq_along(said), block)
}

cumsum_blocks <- function(sizes, most, count) {
  block <- integer(length(sizes))
  now <- 1L
  held <- 0
  held_count <- 0L
  for (i in seq_along(sizes)) {
    if (held_count > 0L && (held + sizes[i] > most || held_count >= count)) {
      now <- now + 1L
      held <- 0
      held_count <- 0L
    }
    block[i] <- now
    held <- held + sizes[i]
    held_count <- held_count + 1L
  }
  block
}

check_row_count <- function(rows, count) {
  if (is.null(rows$count)) rows$count <- count
  if (identical(rows$count, count)) return(invisible(count))
  stop_changed(rows$source, sprintf("It has %s rows of the study; it had %s.", format(count, big.mark = ","),
                                    format(rows$count, big.mark = ",")))
}

stop_changed <- function(source, what) {
  abort_kind("changed", c(
    "The table {.val {source$label}} has changed since the study was framed.", x = what,
    i = "Numbers of two states of a table don't go together: frame the study again, on a copy or a snapshot."
  ), table = source$label, call = NULL, .envir = environment())
}

stop_not_finite <- function(rows) {
  abort_input(c(
    "A sum over {.val {rows$source$label}} is not a number.",
    i = "Look for values that are infinite, or so large that their squares overflow."
  ), table = rows$source$label, call = NULL)
}

as_doubles <- function(found) vapply(found, as_double, 0, USE.NAMES = FALSE)

# Drivers give 64-bit counts as a class of their own, and numbers without a column type as text.
as_double <- function(column) {
  if (inherits(column, "integer64")) return(as.double(format(column)))
  as.double(column)
}
