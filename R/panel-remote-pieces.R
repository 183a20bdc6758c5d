# Pieces of a panel in a database: their counts and sums, and the panel that stands in for its units.

most_pieces <- 200000L

# How many periods fit into one number that tells which of them a unit is seen in.
periods_per_number <- 50L

# Statement for one row per unit (per row, in a cross-section): u_o onset, u_p1, ... periods seen, u_h group, u_g
# cluster, u_s weight; of an outcome (list(value, known: SQL, centre: per period)) u_y1, ..., less its centre, 0 where
# not seen. With covariates (outcome$x, SQL by column) also u_k1, ..., is it known? and u_x1_1, ..., those of the
# periods `bases`; in a cross-section u_t, u_y, u_k and u_x1, ... of the row.
unit_rows_sql <- function(table, outcome, bases = NULL) {
  number <- table$source$dialect$number
  periods <- length(table$time$position)
  known <- if (is.null(outcome) || outcome$whole) "" else sprintf("known = %s AND ", number(1))
  of_unit <- function(sql) if (table$repeats) sprintf("MIN(%s)", sql) else sql
  by_group <- identical(panel_level(table), "h")  # else a unit's rows tell its onset, or each row does
  joined <- if (by_group) "twin_panel_rows r JOIN twin_panel_levels v ON v.l = r.h" else "twin_panel_rows r"
  onset <- if (by_group) of_unit("v.o") else if (table$repeats) first_onset_sql(table) else "o"
  entered <- entered_sql(table, onset, of_unit(if (by_group) "v.seen" else "t"))
  total <- function(sql) if (table$repeats) sprintf("SUM(%s)", sql) else sql
  at <- function(t) sprintf("(CASE WHEN %st = %s THEN", known, number(t))
  blocks <- split(seq_len(periods), (seq_len(periods) - 1L) %/% periods_per_number)
  pattern <- vapply(blocks, function(block) {
    cases <- sprintf("WHEN %st = %s THEN %s", known, number(block), number(2^(seq_along(block) - 1)))
    total(sprintf("(CASE %s ELSE %s END)", paste(cases, collapse = " "), number(0)))
  }, "")
  values <- if (!is.null(outcome)) {
    sql <- total(sprintf("%s y - %s ELSE %s END)", at(seq_len(periods)), number(outcome$centre), number(0)))
    stats::setNames(sql, paste0("y", seq_len(periods)))
  }
  columns <- c(
    stats::setNames(pattern, paste0("p", seq_along(pattern))),
    s = if (is.null(table$roles$weight)) number(1) else of_unit("s"), o = onset,
    h = if (!is.null(table$roles$group)) of_unit("h"), g = if (!is.null(table$roles$cluster)) of_unit("g"),
    values, if (!is.null(outcome$x)) covariate_columns(table, outcome, bases)
  )
  sprintf("(WITH %s SELECT %s FROM %s %s NOT %s) twin_panel",
          paste(panel_sql(table, outcome_columns(outcome), levels = by_group), collapse = ", "),
          paste(columns, "AS", names(columns), collapse = ", "), joined,
          if (table$repeats) "GROUP BY k HAVING" else "WHERE", entered)
}

outcome_columns <- function(outcome) {
  if (is.null(outcome)) return(NULL)
  columns <- c(y = outcome$value, known = outcome$known, outcome$x)
  names(columns)[-(1:2)] <- sprintf("x%d", seq_along(outcome$x))
  columns
}

covariate_columns <- function(table, outcome, bases) {
  number <- table$source$dialect$number
  x <- seq_along(outcome$x)
  if (!table$repeats) {
    y <- sprintf("(CASE WHEN known = %s THEN y - %s ELSE %s END)", number(1), number(mean(outcome$centre)), number(0))
    return(c(t = "t", y = y, k = "known", stats::setNames(paste0("x", x), paste0("x", x))))
  }
  periods <- seq_along(table$time$position)
  one <- function(t, what) sprintf("SUM(CASE WHEN t = %s THEN %s ELSE %s END)", number(t), what, number(0))
  c(stats::setNames(one(periods, "known"), paste0("k", periods)),
    stats::setNames(one(rep(bases, each = length(x)), paste0("x", x)),
                    sprintf("x%d_%d", rep(bases, each = length(x)), x)))
}

# list(onset, seen: pieces x periods, group, cluster: labels, count, weight; of an outcome also total: pieces x periods,
# sums of s (y - centre), and where units are their own clusters square: sums of s^2 (1, y - centre) cross-products).
remote_pieces <- function(table, outcome, call, alone = TRUE) {
  periods <- length(table$time$position)
  source <- table$source
  source$from <- unit_rows_sql(table, outcome)
  patterns <- paste0("p", seq_len(ceiling(periods / periods_per_number)))
  labels <- c(h = table$roles$group, g = table$roles$cluster)
  names <- c(patterns, "s", "o", names(labels), if (!is.null(outcome)) paste0("y", seq_len(periods)))
  rows <- new_rows(source, stats::setNames(names, paste0("u_", names)), character())
  values <- if (!is.null(outcome)) lapply(paste0("u_y", seq_len(periods)), as.name)
  s <- if (is.null(table$roles$weight)) 1 else quote(u_s)
  weighted <- lapply(values, multiplied, s)
  squares <- if (!is.null(outcome) && alone && has_own_clusters(table)) {
    with_one <- c(list(1), values)
    pairs <- which(lower.tri(diag(periods + 1L), diag = TRUE), arr.ind = TRUE)
    lapply(seq_len(nrow(pairs)), function(k) Reduce(multiplied, c(with_one[pairs[k, ]], list(s, s))))
  }
  sums <- c(list(1, s), weighted, squares)
  names(sums) <- c("count", "weight", sprintf("t%d", seq_along(weighted)), sprintf("q%d", seq_along(squares)))
  again <- if (is.null(table$roles$weight)) {  # without weights some are others: the first squares are those with 1
    c(weight = "count", if (length(squares) > 0L) stats::setNames(sprintf("q%d", seq_along(weighted) + 1L),
                                                                  sprintf("t%d", seq_along(weighted))))
  }
  keys <- paste0("u_", c("o", patterns, names(labels)))
  found <- piece_sums(rows, sums[setdiff(names(sums), names(again))], keys)
  found[names(again)] <- found[again]
  check_piece_count(nrow(found), call)
  if (!all(is.finite(unlist(found[names(sums)])))) stop_not_finite(rows)
  list(onset = found$u_o, seen = seen_periods(found[paste0("u_", patterns)], periods), group = found[["u_h"]],
       cluster = found[["u_g"]], count = found$count, weight = found$weight,
       total = if (!is.null(outcome)) as.matrix(found[sprintf("t%d", seq_len(periods))]),
       square = if (length(squares) > 0L) as.matrix(found[sprintf("q%d", seq_along(squares))]))
}

has_own_clusters <- function(table) {
  is.null(table$roles$group) && (is.null(table$roles$cluster) || identical(table$roles$cluster, table$roles$unit))
}

# In as many statements as the engine needs.
piece_sums <- function(rows, sums, keys) {
  said <- vapply(sums, sql_of, "", rows$source$dialect)
  parts <- lapply(statement_blocks(said, rows$source$dialect), function(block) {
    row_sums_by(rows, sums[block], keys, most = most_pieces + 1L)
  })
  counts <- vapply(parts, nrow, 0L)
  if (any(counts != counts[1L])) stop_changed(rows$source, "Units came or went between two statements.")
  do.call(cbind, unname(c(parts[1L], lapply(parts[-1L], function(part) part[setdiff(names(part), keys)]))))
}

check_piece_count <- function(count, call) {
  if (count <= most_pieces) return(invisible(count))
  abort_unsupported(c(
    "The panel falls into more than {count_text(most_pieces)} kinds of units: by cohort, the periods they are seen in,
     and cluster.",
    i = "Name no {.arg cluster} (each unit is its own), or one of fewer values; or keep units that are seen throughout."
  ), call = call)
}

# numbers: per piece, a bit for each period.
seen_periods <- function(numbers, periods) {
  bits <- lapply(numbers, function(number) {
    vapply(seq_len(periods_per_number) - 1L, function(bit) number %/% 2^bit %% 2 == 1, logical(length(number)))
  })
  matrix(do.call(cbind, lapply(bits, matrix, nrow = length(numbers[[1L]]))), length(numbers[[1L]]))[, seq_len(periods),
                                                                                                   drop = FALSE]
}

# The fields of a panel whose units stand for pieces; with `mean` (pieces x periods) and `step` one unit for each of a
# piece's periods and one more, which together are the piece (core_pieces_behind()), else one. Returns also y.
pieces_as_units <- function(table, pieces, starts, mean = NULL, step = NULL) {
  seen <- rowSums(pieces$seen)
  own <- has_own_clusters(table)
  stand_ins <- if (own && !is.null(mean)) seen + 1L else rep(1L, length(seen))
  piece <- rep(seq_along(seen), stand_ins)
  place <- sequence(stand_ins) - 1L
  rows_of <- lapply(seq_along(seen), function(p) if (seen[p] > 0) which(pieces$seen[p, ]) else 1L)
  unit <- rep(seq_along(piece), lengths(rows_of)[piece])
  time <- unlist(rows_of[piece])
  coded <- function(labels) structure(match(labels, unique(labels)), labels = as.character(unique(labels)))
  group <- if (!is.null(pieces$group)) coded(pieces$group[piece])
  cluster <- if (own) {
    structure(seq_along(piece), own = TRUE,
              name = if (is.null(table$roles$unit)) "single row" else table$roles$unit)
  } else if (!is.null(table$roles$cluster)) {
    structure(coded(pieces$cluster[piece]), name = table$roles$cluster)
  } else {
    structure(group, name = table$roles$group)
  }
  y <- if (!is.null(mean)) {
    moved <- if (own) ifelse(place[unit] == 0L, -1, place[unit] == sequence(rle(unit)$lengths)) * step else 0
    mean[cbind(piece[unit], time)] + moved
  }
  onset <- table$onsets$position[pieces$onset]
  cohorts <- data.frame(position = starts, label = "never")
  cohorts$label[is.finite(starts)] <- onset_labels(starts[is.finite(starts)], table$time$scale)
  list(
    rows = seq_along(unit), in_order = FALSE, unit = unit, time = time, cohort = match(onset[piece], starts),
    first_row = match(seq_along(piece), unit), unit_labels = NULL, group = group, cluster = cluster, cohorts = cohorts,
    periods = data.frame(position = table$time$position, label = position_label(table$time$position, table$time$scale)),
    s = (pieces$weight / stand_ins)[piece][unit], copies = ifelse(place == 0L, pieces$count[piece], 0),
    piece = piece, place = place, y = y
  )
}

# list(panel: of the units seen alike with that outcome, y, outcome: remote_panel_outcome()). alone: with what errors of
# single units need? centred: less the mean of all, which keeps digits of effects?
open_remote_panel <- function(panel, outcome, by, alone = TRUE, centred = TRUE) {
  log_opening(panel, outcome, by)
  table <- panel$table
  asked <- remote_panel_outcome(panel, outcome)
  check_same_outcome(panel, outcome, asked)
  moments <- asked[c("centre", "mean", "spread")]
  pieces <- remote_pieces(table, asked, rlang::caller_env(2), alone)
  check_same_units(panel, pieces)
  mean <- pieces$total / pieces$weight
  mean[!pieces$seen] <- NA_real_
  step <- if (moments$spread > 0) moments$spread else 1
  levels <- sweep(mean, 2L, moments$centre - if (centred) moments$mean else 0, `+`)
  fields <- pieces_as_units(table, pieces, panel$onsets, levels, step)
  y <- fields$y
  fields$y <- NULL
  known <- sum(pieces$count * rowSums(pieces$seen))
  whole <- if (panel$repeats) panel_rows_count(panel) else sum(pieces$count)
  behind <- if (!is.null(pieces$square)) {
    list(block = match(table$onsets$position[pieces$onset], panel$onsets), count = pieces$count, weight = pieces$weight,
         scatter = lapply(seq_along(pieces$count), function(p) piece_scatter(pieces, p, mean)),
         step = step)
  }
  list(panel = do.call(amend, c(list(panel), fields, list(lost = whole - known, known = known,
                                                        spread = moments$spread, behind = behind))),
       y = y, outcome = asked)
}

# list(value, known: SQL, whole: are all known? near: a number near the first values, count, mean: of all, centre: mean
# by period, spread).
remote_panel_outcome <- function(panel, outcome) {
  facts <- panel$outcomes$facts[[outcome]]
  sql <- panel$outcomes$base
  known <- if (is.null(facts$known)) panel$source$dialect$number(1) else sql[[as.character(facts$known)]]
  first <- panel$source$columns[[outcome]]
  near <- if (is.numeric(first) && any(is.finite(first))) mean(first[is.finite(first)]) else 0
  asked <- list(value = sql[[as.character(facts$value)]], known = known, whole = is.null(facts$known), near = near)
  c(asked, outcome_by_period(panel$table, asked))
}

# Means of all and by period, and the standard deviation of all, of an outcome.
outcome_by_period <- function(table, outcome) {
  start <- outcome$near
  found <- ask_panel(table, sprintf(
    "SELECT t, SUM(known), SUM(CASE WHEN known = 1 THEN y - %1$s ELSE 0 END), SUM(CASE WHEN known = 1 THEN (y - %1$s) *
     (y - %1$s) ELSE 0 END) FROM twin_panel_rows GROUP BY t", table$source$dialect$number(start)
  ), c(y = outcome$value, known = outcome$known))
  found[] <- lapply(found, as_double)
  found <- found[order(found[[1L]]), ]
  total <- colSums(found[-1L])
  count <- max(1, total[[1L]])
  list(count = total[[1L]], mean = start + total[[2L]] / count,
       centre = start + ifelse(found[[2L]] > 0, found[[3L]] / pmax(found[[2L]], 1), 0),
       spread = sqrt(max(0, total[[3L]] - total[[2L]]^2 / count) / max(1, total[[1L]] - 1)))
}

# Cross-products of s (1, y less the piece's mean) of the periods a piece is seen in; mean: from the centre of each
# period.
piece_scatter <- function(pieces, p, mean) {
  periods <- ncol(pieces$seen)
  whole <- symmetric_of(pieces$square[p, ], periods + 1L)
  at <- which(pieces$seen[p, ])
  own <- whole[c(1L, at + 1L), c(1L, at + 1L), drop = FALSE]
  move <- diag(length(at) + 1L)
  move[1L, -1L] <- -mean[p, at]
  out <- crossprod(move, own %*% move)
  nothing <- diag(out) < 1e-13 * diag(own)  # rounding of outcomes that are all alike
  out[nothing, ] <- 0
  out[, nothing] <- 0
  out
}

# The units that were framed are still those that answer.
check_same_units <- function(panel, pieces) {
  of <- function(count, weight) c(sum(count), sum(weight))
  before <- of(panel$copies, panel$s[panel$first_row])
  now <- of(pieces$count, pieces$weight)
  if (any(abs(now - before) > 1e-9 * (1 + abs(before)))) {
    stop_changed(panel$source, sprintf("It has %s units of the panel; it had %s.", count_text(now[1L]),
                                       count_text(before[1L])))
  }
}

check_same_outcome <- function(panel, outcome, now) {
  before <- panel$check[[outcome]]
  moved <- now$count != before$count || abs(now$mean - before$mean) > 1e-9 * (abs(before$mean) + before$spread)
  if (moved) stop_changed(panel$source, "Values of columns in use are not the same any more.")
}

# Contributions of single units, behind those of the pieces' stand-ins.
of_pieces_alone <- function(found, panel) {
  behind <- panel$behind
  source <- core_pieces_behind(found$source, as.vector(found$cluster), panel$piece, panel$place, behind$step, behind,
                               length(found$estimate))
  found$source <- source
  found$cluster <- structure(seq_along(behind$count), name = attr(found$cluster, "name"))
  found
}
