# A study whose rows stay in a database. It has the fields of a study but for rows: `rows` are words (remote-rows.R), a
# column has a word in place of values, and counts stand in place of codes.

is_remote <- function(x) inherits(x, c("twin_remote", "twin_remote_study", "twin_remote_design", "twin_remote_panel"))

# Units of each arm, wherever the rows are.
study_sizes <- function(study) {
  if (is_remote(study)) study$size else c(treated = sum(study$z), control = sum(1L - study$z))
}

# given: the arguments of frame_study().
frame_remote <- function(given, call) {
  source <- given$data
  framed <- source$counter
  source$counter <- new.env(parent = emptyenv())
  source$counter$passes <- 0L
  first <- source$columns
  roles <- given[c("treatment", "outcome", "weight", "cluster", "stratum", "id", "frequency")]
  check_roles(first, roles, call)
  refuse_remote_options(given, call)
  covariates <- given$covariates
  by_graph <- if (!is.null(given$graph)) {
    covariates <- covariates_by_graph(given$graph, covariates, roles$treatment, roles$outcome[1L], first, call)
    graph_words(given$graph, given$covariates, roles$treatment, roles$outcome[1L])
  }
  wanted <- parse_covariates(covariates, first, unlist(roles), call = call)
  check_role_clashes(roles, wanted$names, call)
  check_remote_formula(wanted$formula, first, call)
  readers <- column_readers(source, c(unlist(roles), wanted$names), given$unknown, given$categories, call)
  inside <- remote_subset(given$subset, source, call)
  arms <- remote_arms(source, readers[[roles$treatment]], roles$treatment, given$treated, inside, call)
  where <- c(inside, sprintf("%s IN (%s)", readers[[roles$treatment]]$sql, paste(arms$values, collapse = ", ")))
  check_only_numbers(source, readers, where, call)
  gone <- remote_missing(source, readers, c(wanted$names, roles$outcome), where)
  dropped <- c("outside the subset" = arms$all - arms$considered, "treatment missing" = arms$missing)
  complete <- remote_complete(readers[wanted$names], gone[wanted$names], given$missing, call)
  if (length(complete) > 0L) {
    left <- count_where(source, c(where, complete))
    dropped <- c(dropped, "a covariate missing" = arms$considered - arms$missing - left)
    where <- c(where, complete)
  }
  if (given$missing_outcome == "drop") {
    known <- sprintf("%s IS NOT NULL", vapply(readers[roles$outcome], `[[`, "", "sql"))
    before <- count_where(source, where)
    where <- c(where, known)
    dropped <- c(dropped, "an outcome missing" = before - count_where(source, where))
  }
  check_logged(given$logged, roles$outcome, first, call)
  s <- if (is.null(roles$weight)) source$dialect$number(1) else readers[[roles$weight]]$sql
  z <- sprintf("(CASE WHEN %s = %s THEN %s ELSE %s END)", readers[[roles$treatment]]$sql, arms$values[1L],
               source$dialect$number(1), source$dialect$number(0))
  size <- remote_sizes(source, z, s, where, arms$levels, dropped, roles$weight, call)
  if (!is.null(roles$id)) check_remote_id(source, roles$id, readers[[roles$id]], where, size, call)
  groups <- lapply(stats::setNames(nm = c("cluster", "stratum")), function(role) {
    if (!is.null(roles[[role]])) remote_groups(source, readers[[roles[[role]]]], roles[[role]], role, where, call)
  })
  columns <- remote_columns(source, readers[wanted$names], s, where, call)
  outcomes <- remote_outcomes(source, readers[roles$outcome], z, given$event, where, call)
  base <- c(u_z = z, u_s = s, columns$base, outcomes$base,
            u_g = if (!is.null(groups$cluster)) readers[[roles$cluster]]$sql,
            u_h = if (!is.null(groups$stratum)) readers[[roles$stratum]]$sql)
  rows <- new_rows(source, base, where)
  fields <- list(
    source = source, data = first[0L, , drop = FALSE], rows = rows, roles = Filter(Negate(is.null), roles),
    levels = arms$levels, size = size, weighted = !is.null(roles$weight), cluster = groups$cluster,
    stratum = groups$stratum, columns = columns$columns, formula = wanted$formula, estimand = given$estimand,
    missing = given$missing, logged = given$logged, dropped = dropped[dropped > 0], by_graph = by_graph,
    graph = given$graph,
    events = outcomes$events, outcomes = outcomes$facts, hash = NULL, family = NULL, outside = NULL
  )
  rows$check <- row_sums(rows, checked_words(rows))
  # the same rows framed again, for another estimand or anew, share their words: designs on them stand side by side
  same <- rlang::hash(list(source$from, base, where, rows$check))
  if (!is.null(framed[[same]])) {
    counter <- framed[[same]]$source$counter
    counter$passes <- counter$passes + source$counter$passes
  } else {
    framed[[same]] <- rows
  }
  fields$rows <- framed[[same]]
  fields$source <- fields$rows$source
  fields$hash <- rlang::hash(list(same, fields$estimand))
  fields$logbook <- new_logbook()
  study <- structure(fields, class = c("twin_remote_study", "twin_study"))
  log_step(study, "frame", paste0(roles$treatment, ", ", given$estimand),
           counts = sprintf("%.0f treated, %.0f control", size[["treated"]], size[["control"]]),
           settings = list(covariates = study_terms(study), missing = given$missing, graph = by_graph,
                           database = source$dialect$words, table = source$label))
  study
}

# Words of one study mean nothing in another.
check_same_rows <- function(studies, call = rlang::caller_env()) {
  own <- lapply(studies, function(study) study$rows)
  if (!all(vapply(own, identical, NA, own[[1L]]))) {
    abort_input(c("Designs and effects side by side must be of the same rows and columns of one table.",
                  i = "Frame one study with all outcomes and covariates, or one for each estimand, from the same
                       {.cls twin_remote}."), call = call)
  }
}

# Words of the groups that errors are summed by.
remote_keys <- function(study) {
  Filter(Negate(is.null), list(stratum = if (!is.null(study$stratum)) "u_h",
                               cluster = if (!is.null(study$cluster)) "u_g"))
}

# What needs the rows themselves to be read.
refuse_remote_options <- function(given, call) {
  if (!is.null(given$frequency)) {
    abort_unsupported(c("{.arg frequency} needs rows in memory.",
                        i = "Give the table one row per unit, or draw a sample with {.fn fetch_units}."), call = call)
  }
}

# The sums that tell whether the table is still the one that was framed: of every column in use.
checked_words <- function(rows) {
  words <- grep("^u_[zsxmyk]", names(rows$base), value = TRUE)
  stats::setNames(lapply(words, as.name), words)
}

# again: the same sums now.
check_unchanged <- function(rows, again) {
  before <- rows$check
  now <- again[names(before)]
  moved <- abs(now - before) > 1e-9 * (1 + abs(before))
  if (any(moved)) stop_changed(rows$source, "Values of columns in use are not the same any more.")
}

# How each column is read: list(name, kind: "text", "code", "number", "logical", "date" or "time", sql: what it is in
# computations, labels: of categories). Codes are numbers that stand for categories.
column_readers <- function(source, names, unknown, categories, call) {
  check_unknown(unknown, call)
  categories <- check_categories(categories, source$columns, call)
  lapply(stats::setNames(nm = unique(names)), function(name) {
    check_column_kind(source$columns[[name]], name, call)
    kind <- remote_kind(source$columns[[name]], name, call)
    if (name %in% names(categories)) kind <- if (kind == "number") "code" else "text"
    list(name = name, kind = kind, sql = reading_sql(source, name, kind, unknown), labels = categories[[name]])
  })
}

remote_kind <- function(x, name, call) {
  if (is.logical(x) && !all(is.na(x))) return("logical")
  if (inherits(x, "Date")) return("date")
  if (inherits(x, "POSIXt")) return("time")
  if (is.numeric(x) || is.logical(x)) return("number")
  if (is.character(x) || is.factor(x)) return("text")
  abort_input(c("Column {.val {name}} can't be used: it is {.obj_type_friendly {x}}.",
                i = "Turn it into numbers, text or dates in a view."), column = name, call = call)
}

reading_sql <- function(source, name, kind, unknown) {
  dialect <- source$dialect
  column <- quote_name(source, name)
  sql <- switch(kind,
    text = dialect$text(column),
    number = , code = dialect$double(column),
    logical = sprintf("(CASE WHEN %1$s THEN %2$s WHEN NOT %1$s THEN %3$s END)", column, dialect$number(1),
                      dialect$number(0)),
    date = dialect$days(column, FALSE), time = dialect$days(column, TRUE)
  )
  if (kind == "text") {
    gone <- c("''", quote_text(source, as.character(unknown)))
    return(sprintf("(CASE WHEN TRIM(%1$s) IN (%2$s) THEN NULL ELSE %1$s END)", sql, paste(gone, collapse = ", ")))
  }
  numbers <- suppressWarnings(as.numeric(unknown))
  numbers <- numbers[!is.na(numbers)]
  if (!kind %in% c("number", "code") || length(numbers) == 0L) return(sql)
  sprintf("(CASE WHEN %1$s IN (%2$s) THEN NULL ELSE %1$s END)", sql, paste(dialect$number(numbers), collapse = ", "))
}

# By the driver where there is a connection at hand, else as the engine's entry says.
quote_name <- function(source, name) {
  if (!is.null(source$connection)) return(as.character(DBI::dbQuoteIdentifier(source$connection, name)))
  quotes <- source$dialect$quotes
  paste0(quotes, gsub(quotes, paste0(quotes, quotes), name, fixed = TRUE), quotes)
}

quote_text <- function(source, text) {
  if (!is.null(source$connection)) {
    return(vapply(text, function(one) as.character(DBI::dbQuoteString(source$connection, one)), "", USE.NAMES = FALSE))
  }
  for (mark in source$dialect$escaped) text <- gsub(mark, paste0("\\", mark), text, fixed = TRUE)
  sprintf("'%s'", gsub("'", "''", text, fixed = TRUE))
}

# A condition in R's words as SQL; of columns as they stand in the table.
remote_subset <- function(subset, source, call) {
  if (is.null(subset)) return(character())
  if (!rlang::is_formula(subset)) {
    abort_input(c("{.arg subset} must be a one-sided formula for a table in a database.",
                  x = "It is {describe_value(subset)}.", i = "For example {.code ~ crew_size > 2}."), call = call)
  }
  check_columns(all.vars(subset), source$columns, "subset", call)
  condition <- subset[[length(subset)]]
  check_comparisons(condition, source$columns, call)
  check_said(condition, "subset", call)
  readers <- column_readers(source, all.vars(subset), NULL, NULL, call)
  said <- sql_of(as_condition(condition, source$columns), source$dialect,
                 name = function(text) readers[[text]]$sql, value = function(text) quote_text(source, text))
  said
}

check_said <- function(expr, arg, call) {
  word <- unsaid_word(expr)
  if (is.null(word)) return(invisible(expr))
  abort_unsupported(c(
    "{.arg {arg}} can't say {.code {word}} to a database.",
    i = "It may use {.code {c(setdiff(names(sql_words), c('(', 'c', 'I')), '^')}}; or make a column of it in a view."
  ), call = call)
}

# A yes/no column alone is a condition in R; in SQL, where such columns are 1 and 0 here, it is one that equals 1.
as_condition <- function(expr, columns) {
  if (is.name(expr)) return(call("==", expr, 1))
  if (!is.call(expr) || !as.character(expr[[1L]]) %in% c("&", "|", "!", "(", "==", "!=")) return(expr)
  if (as.character(expr[[1L]]) %in% c("==", "!=")) {
    expr[-1L] <- lapply(as.list(expr)[-1L], function(side) if (is.logical(side)) as.numeric(side) else side)
    return(expr)
  }
  expr[-1L] <- lapply(as.list(expr)[-1L], as_condition, columns)
  expr
}

count_where <- function(source, where) {
  as_doubles(ask_source(source, sprintf("SELECT CAST(COUNT(*) AS %s) FROM %s%s", source$dialect$type, source$from,
                                        where_sql(where)), "sum"))
}

# Values of a column and how many rows have each, missing included; at most `most`.
value_counts <- function(source, reader, where, most) {
  found <- ask_source(source, sprintf(
    "SELECT %1$s AS v, CAST(COUNT(*) AS %2$s) AS n FROM %3$s%4$s GROUP BY %1$s LIMIT %5$d", reader$sql,
    source$dialect$type, source$from, where_sql(where), most + 1L), c("key", "sum"))
  list(value = found[[1L]], count = as_double(found[[2L]]))
}

# The two values of the treatment: list(levels: their names, values: SQL, considered, missing, all).
remote_arms <- function(source, reader, name, treated, inside, call) {
  counts <- value_counts(source, reader, inside, 1000L)
  known <- !is.na(counts$value)
  value <- counts$value[known]
  order <- order(value, method = "radix")
  value <- value[order]
  count <- counts$count[known][order]
  text <- value_names(value, reader)
  listing <- sprintf("%s (%s row%s)", dQuote(text, FALSE), count_text(count), ifelse(count == 1, "", "s"))
  check_two_values(text, listing, name, call)
  treated <- treated_level(treated, text, listing, name, call)
  missing <- sum(counts$count[!known])
  if (missing > 0) {
    warn_kind("dropped", "{plural(missing, 'row')} {cli::qty(missing)}{?is/are} left out: the treatment
                          {.val {name}} is missing there.")
  }
  literal <- if (reader$kind == "text") quote_text(source, value) else source$dialect$number(as_double(value))
  first <- match(treated, text)
  list(levels = c(treated = treated, control = text[-first]), values = literal[c(first, 3L - first)],
       considered = sum(counts$count), missing = missing,
       all = if (length(inside) == 0L) sum(counts$count) else count_where(source, character()))
}

value_names <- function(value, reader) {
  if (reader$kind == "logical") return(ifelse(as_double(value) == 1, "TRUE", "FALSE"))
  if (reader$kind %in% c("date", "time")) return(as.character(as.Date(as_double(value), origin = "1970-01-01")))
  if (is.null(reader$labels)) as.character(value) else unname(reader$labels[as.character(value)])
}

# Where an engine lets a column of numbers hold other things, those would be read as 0.
check_only_numbers <- function(source, readers, where, call) {
  names <- names(Filter(function(reader) reader$kind %in% c("number", "code"), readers))
  strays <- unlist(lapply(names, function(name) source$dialect$not_number(quote_name(source, name))))
  if (length(strays) == 0L) return(invisible(readers))
  found <- in_blocks(source, sprintf("SUM(CASE WHEN %s THEN 1 ELSE 0 END)", strays), where)
  if (all(found == 0)) return(invisible(readers))
  at <- which(found > 0)[1L]
  abort_input(c("Column {.val {names[at]}} holds other things than numbers.",
                x = "In {plural(found[at], 'row')}.",
                i = "Correct {cli::qty(found[at])}{?it/them}, leave {?it/them} out with {.arg subset}, or name the
                     column in {.arg categories}."), column = names[at], call = call)
}

remote_missing <- function(source, readers, names, where) {
  names <- unique(names)
  parts <- sprintf("SUM(CASE WHEN %s IS NULL THEN %s ELSE %s END)", vapply(readers[names], `[[`, "", "sql"),
                   source$dialect$number(1), source$dialect$number(0))
  stats::setNames(in_blocks(source, parts, where), names)
}

# Aggregates of the table itself, as many statements as they need.
in_blocks <- function(source, parts, where) {
  out <- numeric(length(parts))
  for (block in statement_blocks(parts, source$dialect)) {
    out[block] <- as_doubles(ask_source(source, sprintf("SELECT %s FROM %s%s", paste(parts[block], collapse = ", "),
                                                        source$from, where_sql(where)), part_combines(parts[block])))
  }
  out
}

# How the aggregates of several servers go together.
part_combines <- function(parts) {
  ifelse(startsWith(parts, "MIN("), "min", ifelse(startsWith(parts, "MAX("), "max", "sum"))
}

# Conditions that leave out rows where covariates are missing, if that is asked for; gone: rows by covariate.
remote_complete <- function(readers, gone, missing, call) {
  if (missing == "stop") stop_missing_remote(gone, call)
  if (missing != "drop") return(character())
  sprintf("%s IS NOT NULL", vapply(readers[gone > 0], `[[`, "", "sql"))
}

stop_missing_remote <- function(gone, call) {
  gone <- gone[gone > 0]
  if (length(gone) == 0L) return(invisible(gone))
  listing <- sprintf("%s (%s)", dQuote(names(gone), FALSE), count_text(gone))
  abort_input(c("Covariates must have no missing values under {.code missing = \"stop\"}.", x = "Missing in {listing}.",
                i = "Use {.code missing = \"flag\"} to fill and mark them, or {.code missing = \"drop\"}."),
              columns = names(gone), call = call)
}

# Units by arm, weights checked.
remote_sizes <- function(source, z, s, where, levels, dropped, weight, call) {
  parts <- c(sprintf("CAST(COUNT(*) AS %s)", source$dialect$type), sprintf("SUM(%s)", z),
             sprintf("SUM(CASE WHEN %1$s IS NULL OR NOT (%1$s >= 0 AND %1$s < 1e100) THEN 1 ELSE 0 END)", s),
             sprintf("SUM(%s * %s)", z, s), sprintf("SUM(%s)", s))
  found <- in_blocks(source, parts, where)
  size <- c(treated = found[2L], control = found[1L] - found[2L])
  size[is.na(size)] <- 0
  check_sizes(size, levels, dropped, call)
  if (found[3L] > 0) {
    abort_input(c("The weight {.val {weight}} must be finite and not negative.",
                  x = "{count_text(found[3L])} {cli::qty(found[3L])}{?is/are} missing, infinite or negative.",
                  i = "Correct or leave {cli::qty(found[3L])}{?it/them} out with {.arg subset}."), column = weight,
                call = call)
  }
  empty <- c(treated = found[4L], control = found[5L] - found[4L]) <= 0
  if (any(empty)) {
    arm <- names(which(empty))[1L]
    abort_input("All weights in {.val {weight}} are 0 in the {arm} arm ({.val {levels[[arm]]}}).", column = weight,
                call = call)
  }
  size
}

check_remote_id <- function(source, name, reader, where, size, call) {
  found <- in_blocks(source, sprintf("CAST(COUNT(DISTINCT %s) AS %s)", reader$sql, source$dialect$type), where)
  if (found == sum(size)) return(invisible(name))
  abort_input(c("The id {.val {name}} must name each unit once.",
                x = "It has {count_text(found)} different values in {count_text(sum(size))} rows.",
                i = "For repeated observations of the same units, name the column as {.arg cluster} instead."),
              column = name, call = call)
}

# Different values of SQL; those of several servers must be seen to be counted.
count_distinct <- function(source, sql, where) {
  if (is.null(source$shards)) {
    return(in_blocks(source, sprintf("CAST(COUNT(DISTINCT %s) AS %s)", sql, source$dialect$type), where))
  }
  nrow(ask_source(source, sprintf("SELECT %1$s AS v FROM %2$s%3$s GROUP BY %1$s", sql, source$from, where_sql(where)),
                  "key"))
}

# list(count): how many clusters or strata there are.
remote_groups <- function(source, reader, name, role, where, call) {
  found <- c(in_blocks(source, sprintf("SUM(CASE WHEN %s IS NULL THEN 1 ELSE 0 END)", reader$sql), where),
             count_distinct(source, reader$sql, where))
  if (found[1L] > 0) {
    abort_input(c("The {role} {.val {name}} must not be missing.", x = "It is in {plural(found[1L], 'row')}.",
                  i = "Fill {cli::qty(found[1L])}{?it/them} or leave {?the row/the rows} out with {.arg subset}."),
                column = name, call = call)
  }
  list(count = found[2L])
}

# list(columns: as prepare_column() makes them, with words in place of values and of the flag; base: SQL by word).
remote_columns <- function(source, readers, s, where, call) {
  numbers <- Filter(function(reader) !reader$kind %in% c("text", "code"), readers)
  facts <- number_facts(source, numbers, s, where, call)
  made <- Map(function(reader, place) {
    word <- sprintf("u_x%d", place)
    if (reader$kind %in% c("text", "code")) remote_factor(source, reader, word, where, call)
    else remote_number(source, reader, word, sprintf("u_m%d", place), facts[[reader$name]], call)
  }, readers, seq_along(readers))
  list(columns = lapply(made, `[[`, "column"), base = unlist(unname(lapply(made, `[[`, "base"))))
}

number_facts <- function(source, readers, s, where, call) {
  if (length(readers) == 0L) return(list())
  number <- source$dialect$number
  parts <- unlist(lapply(readers, function(reader) {
    x <- reader$sql
    c(sprintf("SUM(CASE WHEN %s IS NULL THEN %s ELSE %s END)", x, number(1), number(0)), sprintf("MIN(%s)", x),
      sprintf("MAX(%s)", x),
      sprintf("SUM(CASE WHEN %1$s NOT IN (%2$s, %3$s) THEN %3$s ELSE %2$s END)", x, number(0), number(1)),
      sprintf("SUM(%s * %s)", s, x), sprintf("SUM(CASE WHEN %s IS NULL THEN %s ELSE %s END)", x, number(0), s))
  }))
  found <- matrix(in_blocks(source, parts, where), nrow = 6L)
  lapply(stats::setNames(seq_along(readers), names(readers)), function(k) {
    list(missing = found[1L, k], ends = found[2:3, k], zero_one = found[4L, k] == 0, mean = found[5L, k] / found[6L, k])
  })
}

remote_number <- function(source, reader, word, flag_word, facts, call) {
  name <- reader$name
  ends <- facts$ends
  if (anyNA(ends)) {
    abort_input(c("Covariate {.val {name}} has no values: all are missing.", i = "Leave it out of {.arg covariates}."),
                column = name, call = call)
  }
  if (!all(is.finite(ends))) {
    abort_input(c("Covariate {.val {name}} must be finite.", x = "Some of its values are infinite.",
                  i = "Leave them out with {.arg subset}, or set them to NULL in a view."), column = name, call = call)
  }
  if (max(abs(ends)) > 1e100) {
    abort_input(c("The numbers in {.val {name}} are too large to compute with.", i = "Divide them by a power of 10."),
                column = name, call = call)
  }
  if (ends[1L] == ends[2L]) {
    abort_input(c("Covariate {.val {name}} can't be adjusted for: it is constant.",
                  x = "Every {if (facts$missing > 0) 'recorded '}value is {.val {as.character(ends[1L])}}.",
                  i = "Leave it out of {.arg covariates}."), column = name, call = call)
  }
  dialect <- source$dialect
  binary <- reader$kind == "logical" || (reader$kind == "number" && ends[1L] == 0 && ends[2L] == 1 && facts$zero_one)
  column <- list(kind = if (binary) "binary" else if (reader$kind %in% c("date", "time")) "date" else "numeric",
                 label = name, levels = if (binary) if (reader$kind == "logical") "TRUE" else "1",
                 missing = as.integer(min(facts$missing, .Machine$integer.max)), flag = NULL, word = as.name(word),
                 ends = ends)
  if (facts$missing == 0) return(list(column = column, base = stats::setNames(reader$sql, word)))
  column["flag"] <- list(as.name(flag_word))
  list(column = column, base = stats::setNames(
    c(sprintf("COALESCE(%s, %s)", reader$sql, dialect$number(facts$mean)),
      sprintf("(CASE WHEN %s IS NULL THEN %s ELSE %s END)", reader$sql, dialect$number(1), dialect$number(0))),
    c(word, flag_word)))
}

most_levels <- 1000L

remote_factor <- function(source, reader, word, where, call) {
  name <- reader$name
  counts <- value_counts(source, reader, where, most_levels + 1L)
  known <- !is.na(counts$value)
  value <- as.character(if (reader$kind == "code") as_double(counts$value[known]) else counts$value[known])
  if (length(value) > most_levels || (length(value) > 50L && length(value) > sum(counts$count) / 2)) {
    abort_input(c("Covariate {.val {name}} looks like an identifier: it has more than
                   {if (length(value) > most_levels) most_levels else 50} different values.",
                  i = "Name it as {.arg id} or {.arg cluster}, or group its values."), column = name, call = call)
  }
  if (length(value) == 0L) {
    abort_input(c("Covariate {.val {name}} has no values: all are missing.", i = "Leave it out of {.arg covariates}."),
                column = name, call = call)
  }
  missing <- sum(counts$count[!known])
  if (length(value) < 2L && missing == 0) {
    abort_input(c("Covariate {.val {name}} can't be adjusted for: it is constant.",
                  x = "Every value is {.val {value}}.",
                  i = "Leave it out of {.arg covariates}."), column = name, call = call)
  }
  levels <- category_order(value, reader, call)
  count <- counts$count[known][match(levels, value)]
  names <- value_names(levels, reader)
  number <- source$dialect$number
  literals <- if (reader$kind == "code") number(as.numeric(levels)) else quote_text(source, levels)
  cases <- sprintf("WHEN %s THEN %s", literals, number(seq_along(levels)))
  if (missing > 0) {
    names <- c(names, missing_level)
    count <- c(count, missing)
  }
  sql <- sprintf("(CASE %s %s END)", reader$sql, paste(cases, collapse = " "))
  if (missing > 0) sql <- sprintf("COALESCE(%s, %s)", sql, number(length(names)))
  list(column = list(kind = "factor", label = name, levels = names, missing = as.integer(missing), flag = NULL,
                     word = as.name(word), count = count),
       base = stats::setNames(sql, word))
}

# As factors in memory: text by its letters, codes of categories by their numbers or in the order of their labels.
category_order <- function(value, reader, call) {
  if (is.null(reader$labels)) {
    numbers <- suppressWarnings(as.numeric(value))
    return(if (anyNA(numbers)) sort(value, method = "radix") else value[order(numbers, value)])
  }
  stray <- setdiff(value, names(reader$labels))
  if (length(stray) > 0L) {
    abort_input(c("The categories of {.val {reader$name}} lack {.val {utils::head(stray, 5)}}.",
                  i = "Give {cli::qty(length(stray))}{?it a label/them labels}, or name {?it/them} in {.arg unknown}."),
                column = reader$name, call = call)
  }
  intersect(names(reader$labels), value)
}

# list(events: as check_outcomes() gives them, facts: by outcome list(value, known: words, least, most, missing by arm),
# base: SQL by word).
remote_outcomes <- function(source, readers, z, event, where, call) {
  made <- Map(function(reader, place) {
    remote_outcome(source, reader, place, z, if (reader$name %in% names(event)) event[[reader$name]] else
      if (is.null(names(event)) && reader$kind == "text") event[1L], where, call)
  }, readers, seq_along(readers))
  list(events = lapply(made, `[[`, "event"), facts = lapply(made, `[[`, "facts"),
       base = unlist(unname(lapply(made, `[[`, "base"))))
}

remote_outcome <- function(source, reader, place, z, event, where, call) {
  number <- source$dialect$number
  x <- reader$sql
  gone <- sprintf("SUM(CASE WHEN %s IS NULL THEN %s ELSE %s END)", x, c(z, number(1)), number(0))
  if (reader$kind == "text") {
    counts <- value_counts(source, reader, where, 10L)
    values <- sort(counts$value[!is.na(counts$value)], method = "radix")
    event <- outcome_event(factor(values), reader$name, event, call)
    y <- sprintf("(CASE WHEN %s = %s THEN %s ELSE %s END)", x, quote_text(source, event), number(1), number(0))
    found <- c(in_blocks(source, gone, where), 0, 1, 2)
  } else {
    parts <- c(gone, sprintf("MIN(%s)", x), sprintf("MAX(%s)", x),
               sprintf("SUM(CASE WHEN %s NOT IN (%s, %s) THEN 1 ELSE 0 END)", x, number(0), number(1)))
    found <- in_blocks(source, parts, where)
    if (anyNA(found[3:4]) || any(abs(found[3:4]) > 1e100)) {
      abort_input(c("The outcome {.val {reader$name}} must be finite.",
                    x = if (anyNA(found[3:4])) "It has no values." else
                      "It is infinite, or too large to square, somewhere."),
                  column = reader$name, call = call)
    }
    shares <- reader$kind == "logical" || (found[5L] == 0 && found[3L] == 0 && found[4L] == 1)
    event <- if (!shares) NA_character_ else if (reader$kind == "logical") "TRUE" else "1"
    y <- x
  }
  words <- sprintf(c("u_y%d", "u_k%d"), place)
  missing <- c(treated = found[1L], control = found[2L] - found[1L])
  list(event = event,
       facts = list(value = as.name(words[1L]), known = if (found[2L] > 0) as.name(words[2L]), least = found[3L],
                    most = found[4L], missing = missing),
       base = stats::setNames(
         if (found[2L] > 0) c(sprintf("COALESCE(%s, %s)", y, number(0)),
                              sprintf("(CASE WHEN %s IS NULL THEN %s ELSE %s END)", x, number(0), number(1))) else y,
         if (found[2L] > 0) words else words[1L]))
}

# The same of arguments that need them; stray: their names. sample: how to come by fewer rows.
refuse_row_options <- function(stray, call, sample = "draw a sample with {.fn fetch_units}") {
  if (length(stray) == 0L) return(invisible(stray))
  abort_unsupported(c("{.arg {stray}} {?needs/need} rows in memory.",
                      i = paste0("Leave {cli::qty(length(stray))}{?it/them} out, or ", sample, ".")), call = call)
}

# Of a panel; a sample of rows would tear its units apart.
refuse_panel_options <- function(stray, call) {
  refuse_row_options(stray, call, "read all rows of some units and frame them")
}

# What a verb that needs rows says to a table in a database.
refuse_remote <- function(x, call = rlang::caller_env()) {
  if (!is_remote(x)) return(invisible(x))
  if (inherits(x, "twin_remote_panel")) {
    abort_unsupported(c(
      "That needs the rows, which stay in the database.",
      i = "Read all rows of some units, drawn in a query of your own, and frame them with {.fn frame_panel}.",
      i = "What works on a panel in a database: {.help remote_units}."
    ), call = call)
  }
  abort_unsupported(c(
    "That needs the rows, which stay in the database.",
    i = "Draw a sample with {.fn fetch_units} and frame it: {.code frame_study(fetch_units(remote, n = 1e5), ...)}.",
    i = "What works on a table in a database: {.help remote_units}."
  ), call = call)
}
