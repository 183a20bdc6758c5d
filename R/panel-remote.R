# A panel whose rows stay in a database. Units that are alike in cohort and in the periods they are seen (and in
# cluster, where clusters hold several units) are a piece; the engine counts and sums pieces, and a panel of pieces goes
# through the same estimators as one of units: without covariates an estimate hangs on nothing else
# (panel-remote-pieces.R).

# data: a twin_remote; given: the other arguments of frame_panel().
frame_remote_panel <- function(data, roles, given, call) {
  source <- data
  source$counter <- new.env(parent = emptyenv())
  source$counter$passes <- 0L
  first <- source$columns
  check_panel_roles(first, roles, call)
  refuse_remote_panel(source, roles, given, call)
  check_logged(given$logged, roles$outcome, first, call)
  wanted <- remote_panel_covariates(first, roles, given$covariates, call)
  readers <- column_readers(source, c(unlist(roles), wanted$names), given$unknown, given$categories, call)
  used <- remote_panel_rows(source, readers, roles, wanted, given, call)
  table <- remote_panel_table(source, readers, roles, used, given$periods, call)
  check_remote_rows(table, call)
  aside <- check_remote_timing(table, call)
  outcomes <- remote_outcomes(source, readers[roles$outcome], source$dialect$number(1), given$event, used$where, call)
  s <- if (is.null(roles$weight)) source$dialect$number(1) else readers[[roles$weight]]$sql
  covariates <- panel_design(table, wanted, s, call)
  pieces <- remote_pieces(table, NULL, call)
  onset <- table$onsets$position[pieces$onset]
  check_both_sides(onset, rep(FALSE, length(onset)), table$time$position, roles, call)
  dropped <- c(used$dropped, "treated when first seen" = aside)
  panel <- new_panel(c(
    list(data = first[0L, , drop = FALSE], row_of = NULL, roles = roles, columns = covariates$columns,
         formula = wanted$formula, design = covariates$design, varying = covariates$varying,
         arms = NULL, held = NULL, dose = NULL,
         missing = given$missing, logged = given$logged, dropped = dropped[dropped > 0],
         treated = if (!is.null(used$arms)) used$arms$levels[["treated"]], events = outcomes$events,
         repeats = table$repeats, scale = table$time$scale, table = table, source = source, outcomes = outcomes,
         onsets = sort(unique(onset)), lost = 0, known = NA_real_, spread = NA_real_,
         behind = NULL, check = NULL),
    pieces_as_units(table, pieces, sort(unique(onset)))
  ))
  check <- lapply(stats::setNames(nm = roles$outcome), function(name) {
    remote_panel_outcome(panel, name)[c("count", "mean", "spread")]
  })
  hash <- rlang::hash(list(source$from, used$where, roles, covariates$design, lapply(pieces, unname), check))
  structure(amend(panel, check = check, hash = hash), class = c("twin_remote_panel", class(panel)))
}

# As parse_covariates(), NULL for none.
remote_panel_covariates <- function(first, roles, covariates, call) {
  if (is.null(covariates)) return(NULL)
  wanted <- parse_covariates(covariates, first, unlist(roles[c("outcome", "treatment", "first_treated")]), call = call)
  check_panel_covariates(roles, wanted$names, call)
  check_remote_formula(wanted$formula, first, call)
  wanted
}

# list(where: conditions that rows in use meet, dropped: counts of the others, arms: as remote_arms(), NULL where onsets
# are given).
remote_panel_rows <- function(source, readers, roles, wanted, given, call) {
  where <- remote_subset(given$subset, source, call)
  dropped <- if (length(where) > 0L) {
    c("outside the subset" = count_where(source, character()) - count_where(source, where))
  }
  arms <- if (!is.null(roles$treatment)) {
    remote_arms(source, readers[[roles$treatment]], roles$treatment, given$treated, where, call)
  }
  if (!is.null(arms)) {
    where <- c(where, sprintf("%s IN (%s)", readers[[roles$treatment]]$sql, paste(arms$values, collapse = ", ")))
    dropped <- c(dropped, "treatment missing" = arms$missing)
  }
  check_only_numbers(source, readers[c(roles$outcome, roles$weight, wanted$names)], where, call)
  if (!is.null(wanted)) {
    gone <- remote_missing(source, readers, wanted$names, where)
    complete <- remote_complete(readers[wanted$names], gone, given$missing, call)
    dropped <- c(dropped, "a covariate missing" = if (length(complete) > 0L) {
      count_where(source, where) - count_where(source, c(where, complete))
    })
    where <- c(where, complete)
  }
  for (role in intersect(c("unit", "group", "cluster"), names(Filter(Negate(is.null), roles)))) {
    remote_groups(source, readers[[roles[[role]]]], roles[[role]], role, where, call)
  }
  list(where = where, dropped = dropped, arms = arms)
}

# What statements about the panel are made of.
remote_panel_table <- function(source, readers, roles, used, periods, call) {
  time <- remote_time(source, readers[[roles$time]], roles$time, periods, used$where, call)
  list(source = source, where = used$where, roles = roles, readers = readers, time = time,
       onsets = remote_onsets(source, readers, roles, time, used$where, call), treated = used$arms$values[1L],
       repeats = units_repeat(source, readers, roles, used$where))
}

refuse_remote_panel <- function(source, roles, given, call) {
  if (!is.null(source$shards)) {
    abort_unsupported(c("A panel must stand in one database: rows of a unit may lie on several servers.",
                        i = "Give {.fn remote_units} a connection to one of them that sees the whole table."),
                      call = call)
  }
  if (!is.null(roles$frequency)) refuse_panel_options("frequency", call)
}

# list(columns: as remote_columns() gives them, design: SQL of the columns of their matrix, about their means and on one
# scale, varying: names of covariates that differ within a unit).
panel_design <- function(table, wanted, s, call) {
  if (is.null(wanted)) return(list(columns = list()))
  source <- table$source
  made <- remote_columns(source, table$readers[wanted$names], s, table$where, call)
  sql <- vapply(remote_matrix(made$columns, wanted$formula)$words, sql_of, "", source$dialect,
                name = function(text) made$base[[text]])
  number <- source$dialect$number
  mean_of <- function(parts) in_blocks(source, sprintf("AVG(%s)", parts), table$where)
  sql <- sprintf("(%s - %s)", sql, number(mean_of(sql)))
  spread <- sqrt(mean_of(sprintf("%1$s * %1$s", sql)))
  list(columns = made$columns, design = sprintf("(%s / %s)", sql, number(ifelse(spread > 0, spread, 1))),
       varying = if (table$repeats) varying_within(table, made))
}

varying_within <- function(table, made) {
  words <- vapply(made$columns, function(column) as.character(column$word), "")
  x <- paste0("x", seq_along(words))
  from <- sprintf("(SELECT k, %s FROM twin_panel_rows GROUP BY k) twin_units",
                  paste(sprintf("MAX(%1$s) - MIN(%1$s) AS d_%1$s", x), collapse = ", "))
  count <- panel_counts(table, from, sprintf("d_%s > 0", x), stats::setNames(unlist(made$base[words]), x))
  names(words)[count > 0]
}

# Are errors of single units, whose sums a piece holds?
is_own_remote <- function(panel) is_remote(panel) && is.null(panel$group) && isTRUE(attr(panel$cluster, "own"))

# list(scale, position: of each period seen, rising, sql: a row's period, numbered from 1).
remote_time <- function(source, reader, name, periods, where, call) {
  counts <- value_counts(source, reader, where, most_levels + 1L)
  if (length(counts$value) > most_levels) {
    abort_input(c("The time {.val {name}} has more than {most_levels} different values.",
                  i = "Give periods, such as years or months, in a view."), column = name, call = call)
  }
  missing <- sum(counts$count[is.na(counts$value)])
  if (missing > 0) {
    abort_input(c("The time {.val {name}} must not be missing.", x = "It is in {plural(missing, 'row')}."),
                column = name, call = call)
  }
  value <- typed_values(counts$value, reader, source$columns[[name]])
  scale <- time_scale(value, name, periods, call)
  at <- time_position(scale$at, scale)
  seen <- sort(unique(at))
  list(scale = scale, position = seen, sql = place_sql(source, reader, value, counts$value, match(at, seen)))
}

# Numbers that follow one another need no list of cases.
place_sql <- function(source, reader, value, counted, place) {
  apart <- if (reader$kind == "number") unique(value - place)
  if (length(apart) != 1L) return(cases_sql(source, reader, counted, place))
  if (apart == 0) reader$sql else sprintf("(%s - %s)", reader$sql, source$dialect$number(apart))
}

# Values of a column as R would hold them.
typed_values <- function(value, reader, column) {
  if (reader$kind %in% c("date", "time")) return(as.Date(as_double(value), origin = "1970-01-01"))
  if (reader$kind == "text") return(if (is.ordered(column)) factor(value, levels(column), ordered = TRUE) else value)
  as_double(value)
}

# A number for each value of a column.
cases_sql <- function(source, reader, value, number) {
  literal <- if (reader$kind == "text") quote_text(source, value) else source$dialect$number(as_double(value))
  sprintf("(CASE %s %s END)", reader$sql, paste(sprintf("WHEN %s THEN %s", literal, source$dialect$number(number)),
                                                collapse = " "))
}

# list(position: onsets on the time grid, rising, never (Inf) last; sql: which of them a row's is, from first_treated;
# NULL where it follows from the treatment, and then the onsets are the periods).
remote_onsets <- function(source, readers, roles, time, where, call) {
  if (is.null(roles$first_treated)) return(list(position = c(time$position, Inf)))
  name <- roles$first_treated
  reader <- readers[[name]]
  counts <- value_counts(source, reader, where, most_levels + 1L)
  known <- !is.na(counts$value)
  value <- typed_values(counts$value[known], reader, source$columns[[name]])
  onset <- read_onset(value, name, time$scale, seq_along(value), call)
  position <- sort(unique(c(onset, Inf)))
  never <- source$dialect$number(length(position))
  sql <- if (any(known)) cases_sql(source, reader, counts$value[known], match(onset, position)) else never
  list(position = position, sql = sprintf("COALESCE(%s, %s)", sql, never))
}

units_repeat <- function(source, readers, roles, where) {
  if (is.null(roles$unit)) return(FALSE)
  count_distinct(source, readers[[roles$unit]]$sql, where) < count_where(source, where)
}

# Common table expressions. twin_panel_rows: k unit, h group, g cluster, t period, s weight, and o onset or d treated; y
# and known of an outcome where one is asked for. twin_panel_levels: l, o and seen of what is treated as a whole.
panel_sql <- function(table, outcome = NULL, levels = TRUE) {
  read <- function(role) if (!is.null(table$roles[[role]])) table$readers[[table$roles[[role]]]]$sql
  source <- table$source
  number <- source$dialect$number
  columns <- c(
    k = if (table$repeats) read("unit"), h = read("group"), g = read("cluster"), t = table$time$sql,
    s = if (is.null(read("weight"))) number(1) else read("weight"), o = table$onsets$sql,
    d = if (!is.null(table$treated)) sprintf("(CASE WHEN %s = %s THEN 1 ELSE 0 END)", read("treatment"), table$treated),
    outcome
  )
  rows <- sprintf("twin_panel_rows AS (SELECT %s FROM %s%s %s)", paste(columns, "AS", names(columns), collapse = ", "),
                  source$from, where_sql(table$where), paste(source$dialect$fence, collapse = ""))
  level <- if (levels) panel_level(table)
  if (is.null(level)) return(rows)
  off <- if (is.null(table$onsets$sql)) sprintf("MAX(CASE WHEN d = 0 THEN t ELSE %s END)", number(0)) else "MAX(o)"
  c(rows, sprintf(paste("twin_panel_levels AS (SELECT %1$s AS l, MIN(t) AS seen, %2$s AS o, %3$s AS off",
                        "FROM twin_panel_rows GROUP BY %1$s)"), level, first_onset_sql(table), off))
}

# The onset of a level, from its rows.
first_onset_sql <- function(table) {
  if (!is.null(table$onsets$sql)) return("MIN(o)")
  sprintf("MIN(CASE WHEN d = 1 THEN t ELSE %s END)", table$source$dialect$number(length(table$onsets$position)))
}

# Column of what is treated as a whole.
panel_level <- function(table) if (!is.null(table$roles$group)) "h" else if (table$repeats) "k"

# Is a level treated when first seen? onsets as numbers of table$onsets$position.
entered_sql <- function(table, onset = "o", seen = "seen") {
  if (is.null(table$onsets$sql)) {
    return(sprintf("(%1$s <= %2$s AND %1$s < %3$d)", onset, seen, length(table$onsets$position)))
  }
  sprintf("(%s <= %d)", onset, sum(table$onsets$position <= 1))
}

ask_panel <- function(table, what, outcome = NULL) {
  ask_source(table$source, sprintf("WITH %s %s", paste(panel_sql(table, outcome), collapse = ", "), what))
}

# How many of a query's rows meet each condition.
panel_counts <- function(table, from, conditions, columns = NULL) {
  parts <- sprintf("SUM(CASE WHEN %s THEN 1 ELSE 0 END)", conditions)
  as_doubles(ask_panel(table, sprintf("SELECT %s FROM %s", paste(parts, collapse = ", "), from), columns))
}

# Names of the first few, for messages.
panel_labels <- function(table, from, condition) {
  as.character(ask_panel(table, sprintf("SELECT l FROM %s WHERE %s ORDER BY l LIMIT 6", from, condition))[[1L]])
}

# Weights, one row per unit and period, and what must not change within a unit.
check_remote_rows <- function(table, call) {
  roles <- table$roles
  bad <- panel_counts(table, "twin_panel_rows", "s IS NULL OR NOT (s > 0 AND s < 1e100)")
  if (bad > 0) {
    abort_input(c("The weight {.val {roles$weight}} must be finite and above 0.",
                  x = "It is not in {plural(bad, 'row')}.",
                  i = "Correct {cli::qty(bad)}{?it/them} or leave {?it/them} out with {.arg subset}."),
                column = roles$weight, call = call)
  }
  if (!table$repeats) return(invisible(table))
  parts <- c(repeated = "COUNT(*) - COUNT(DISTINCT t)", weight = "MAX(s) - MIN(s)",
             group = if (!is.null(roles$group)) "CASE WHEN MAX(h) <> MIN(h) THEN 1 ELSE 0 END",
             cluster = if (!is.null(roles$cluster)) "CASE WHEN MAX(g) <> MIN(g) THEN 1 ELSE 0 END")
  from <- sprintf("(SELECT k AS l, %s FROM twin_panel_rows GROUP BY k) twin_units",
                  paste(parts, "AS", paste0("x_", names(parts)), collapse = ", "))
  conditions <- sprintf("x_%s > 0", names(parts))
  count <- stats::setNames(panel_counts(table, from, conditions), names(parts))
  if (all(count == 0)) return(invisible(table))
  wrong <- names(which(count > 0))[1L]
  labels <- panel_labels(table, from, sprintf("x_%s > 0", wrong))
  many <- count[[wrong]]
  if (wrong == "repeated") {
    abort_input(c(
      "Each {roles$unit} must have one row per period.", x = "{count_text(many)} ha{cli::qty(many)}{?s/ve} more:
       {.val {first_rows(labels)}}.",
      i = "Several units of one group and period? Name the group as {.arg group}, and the units as {.arg unit} or not at
           all."), units = labels, call = call)
  }
  if (wrong == "weight") {
    abort_unsupported(c(
      "Weights that change over time need rows in memory.",
      x = "{.val {roles$weight}} does within {plural(many, 'unit')}: {.val {first_rows(labels)}}.",
      i = "Give each unit one weight in a view, or read all rows of some units and frame them."
    ), units = labels, call = call)
  }
  abort_input(c(
    "{.val {roles[[wrong]]}} must be the same in all rows with one value of {.val {roles$unit}}.",
    x = "It varies in {count_text(many)} of them: {.val {first_rows(labels)}}.",
    i = "Correct the column, or leave {cli::qty(many)}{?it/them} out with {.arg subset}."), units = labels, call = call)
}

# Treatment that goes back, groups treated in part, onsets that vary or are unsure. Returns how many rows are treated
# when first seen.
check_remote_timing <- function(table, call) {
  level <- panel_level(table)
  roles <- table$roles
  if (is.null(level)) {
    if (is.null(roles$first_treated)) {
      abort_input(c("With a {.arg treatment} column in a repeated cross-section, {.arg group} must say what is
                     treated.", i = "Or give {.arg first_treated}, the first treated period of each row."), call = call)
    }
    gone <- panel_counts(table, "twin_panel_rows", entered_sql(table))
    if (gone > 0) warn_entered(gone, "row", NULL)
    return(gone)
  }
  what <- level_name(roles)
  by_column <- !is.null(roles$first_treated)
  if (!by_column) check_remote_groups_whole(table, what, call)
  entered <- entered_sql(table)
  treated <- sprintf("o < %d", length(table$onsets$position))
  wrong <- if (by_column) "o <> off" else sprintf("%s AND off > o", treated)
  unsure <- if (by_column) "1 = 0" else sprintf("%s AND NOT %s AND o > off + 1", treated, entered)
  found <- panel_counts(table, "twin_panel_levels", c(wrong, entered, unsure))
  label <- function(condition) panel_labels(table, "twin_panel_levels", condition)
  if (found[1L] > 0) stop_wrong_onset(found[1L], label(wrong), roles, what, call)
  if (found[2L] > 0) warn_entered(found[2L], what, label(entered))
  if (found[3L] > 0) warn_unsure(found[3L], what, label(unsure))
  if (found[2L] == 0) return(0)
  panel_counts(table, sprintf("twin_panel_rows r JOIN twin_panel_levels v ON v.l = r.%s", level),
               entered_sql(table, "v.o", "v.seen"))
}

stop_wrong_onset <- function(count, labels, roles, what, call) {
  if (!is.null(roles$first_treated)) {
    abort_input(c("{.val {roles$first_treated}} must be the same in all rows with one value of {.val {what}}.",
                  x = "It varies in {count_text(count)} of them: {.val {first_rows(labels)}}.",
                  i = "Correct the column, or leave {cli::qty(count)}{?it/them} out with {.arg subset}."),
                units = labels, call = call)
  }
  abort_input(c(
    "Treatment must not switch off: {.val {roles$treatment}} goes back from treated to untreated.",
    x = "It does in {count_text(count)} {what}{cli::qty(count)}{?s}: {.val {first_rows(labels)}}.",
    i = "Leave {cli::qty(count)}{?it/them} out with {.arg subset}, or define treatment as ever treated so far."
  ), units = labels, column = roles$treatment, call = call)
}

check_remote_groups_whole <- function(table, what, call) {
  if (panel_level(table) == "k") return(invisible(table))
  from <- "(SELECT h AS l, t, MIN(d) AS lowest, MAX(d) AS highest FROM twin_panel_rows GROUP BY h, t) twin_cells"
  if (panel_counts(table, from, "lowest < highest") == 0) return(invisible(table))
  labels <- unique(panel_labels(table, from, "lowest < highest"))
  abort_input(c(
    "All rows with one value of {.val {what}} in one period must be treated alike.",
    x = "{.val {table$roles$treatment}} differs within a period, first in: {.val {first_rows(labels)}}.",
    i = "Name as {.arg group} the level at which treatment is decided."
  ), units = labels, column = table$roles$treatment, call = call)
}

warn_entered <- function(count, what, labels) {
  warn_kind("always_treated", c(
    "{count_text(count)} {what}{cli::qty(count)}{?s} {?is/are} treated when first seen and set aside{
     if (is.null(labels)) '.' else ':'} {if (!is.null(labels)) cli::format_inline('{.val {first_rows(labels)}}.')}",
    i = "Nothing is known of {cli::qty(count)}{?it/them} before treatment."
  ), units = labels)
}

warn_unsure <- function(count, what, labels) {
  warn_kind("onset", c(
    "{count_text(count)} {what}{cli::qty(count)}{?s} {?is/are} not seen just before treatment is first seen:
     {.val {first_rows(labels)}}.",
    i = "{cli::qty(count)}{?It counts/They count} as treated from then on; {.arg first_treated} can tell when it began."
  ), units = labels)
}
