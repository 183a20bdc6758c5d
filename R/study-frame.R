#' State the question: who was treated, what may confound, what came of it
#'
#' The first step of every analysis. Says which column is the treatment and which of its values means treated, which
#' columns may confound, and for whom the effect is wanted. The outcome is named but stays sealed: no verb before
#' [measure_effect()] looks at how it differs between the arms.
#'
#' Strings, logicals, factors, ordered factors, dates and labelled columns are used as they are; the model matrix is
#' the package's job. Every difference in this package is treated minus control.
#'
#' @param data A data frame with one row per unit; or several imputed ones, as a list of data frames or below each other
#'   (see `imputation`).
#' @param treatment Name of the treatment column, which must hold two values.
#' @param outcome Name of the outcome column, or several names. Numbers, TRUE/FALSE, or two values; see `event`.
#' @param covariates What may confound: column names, or a one-sided formula such as
#'   `~ boat_length + log(past_income)`. A formula's terms enter the models of score and outcome; balance is judged on
#'   its columns.
#' @param estimand For whom the effect is wanted: `"ATT"` (the treated; default), `"ATE"` (everybody), `"ATC"` (the
#'   controls), `"ATO"` (those whose treatment could well have been either, weight e(1 - e)) or `"ATM"` (those whom
#'   one-to-one pairing would keep, weight min(e, 1 - e)).
#' @param treated The value of `treatment` that means treated. TRUE beside FALSE, 1 beside 0 and yes beside no need no
#'   naming.
#' @param weight Name of a column of sampling weights (non-negative), which multiply everything: how many units of the
#'   population a sampled unit speaks for. The sample keeps its size, and standard errors are those of its units.
#' @param frequency Name of a column of frequency weights: whole numbers of units that are alike in every column and
#'   share a row. Such a row counts as that many rows, in every number: matching, degrees of freedom and standard errors
#'   too.
#' @param cluster Name of a column of clusters within which units are dependent.
#' @param stratum Name of a column of survey strata.
#' @param id Name of a column that identifies units; must not repeat.
#' @param subset Which rows belong to the study: a one-sided formula such as `~ crew_size > 2`, a logical vector with
#'   one entry per row, or row numbers.
#' @param missing What to do about missing covariate values: `"flag"` (default) fills a numeric column with its mean
#'   and adds an indicator column, and gives a factor a level of its own; `"drop"` leaves out rows that miss any;
#'   `"stop"` is an error that says where they are.
#' @param missing_outcome `"keep"` (default): units that miss an outcome stay in the design and leave at the effect, or
#'   [weigh_responses()] lets others stand in for them. `"drop"` leaves out rows that miss any outcome, so that the
#'   design is made among those who have all of them and no pair loses a partner. That some are missing is read, values
#'   are not: nothing is opened.
#' @param graph A [twin_graph][assume_graph] whose nodes are columns. Without `covariates` the study adjusts for its
#'   smallest sufficient set; with them, covariates that the treatment causes or that open a path raise a warning.
#' @param event For two-valued outcomes that are neither 0/1 nor TRUE/FALSE nor no/yes: the value that counts as 1, as
#'   one string, or a vector with one string per outcome, named by outcome.
#' @param logged Names of outcomes that are in (natural) logs. Their effects are also given in per cent, and never as
#'   a ratio of means.
#' @param unknown Entries that mean "not known", such as `c("n/a", "99")`: missing in covariates, outcomes and
#'   treatment. A column of text that otherwise holds numbers is numbers then. For labelled columns the value's label,
#'   too.
#' @param categories Columns whose numbers are codes of categories: their names, or a list of labels named by column,
#'   such as `list(fuel = c("1" = "wood", "2" = "coal"))`.
#' @param imputation For imputed data that stand below each other: name of the column that says which completed data set
#'   a row belongs to. The rows before imputation, if they stand there as number 0, are left out.
#' @param ... Nothing: an argument that is not known is refused with the nearest name; instruments and cut-offs are out
#'   of scope (`twin_error_unsupported`).
#' @return A `twin_study` (of imputed data a `twin_imputed` of them). Rows are those of `data`, all of them (with
#'   `frequency`: one per unit, in the order of `data`): [weights()][weights.twin_design] of a design made from it has
#'   one entry per row, 0 for rows that are not in the study. With `frequency`, `id`s of units that shared a row get a
#'   number.
#' @section Imputed data: With several completed data sets every verb runs within each of them: scores, pairs and
#'   weights are made anew in each, [assess_balance()] shows the mean and the worst of them, and [measure_effect()]
#'   pools (Rubin 1987; degrees of freedom of Barnard & Rubin 1999) and says which share of the information is missing;
#'   `tidy(effect, part = "pooling")` takes the error apart. What has no pooled form (overlap, weights, power, probes,
#'   who gains) is given for each data set, with the range over them; `x[[2]]` is that of the second. Treatment,
#'   clusters, strata and weights are the same in all. The logbook is that of the first.
#' @section Errors: `twin_error_input` for unknown columns (the nearest name is suggested), a treatment without two
#'   values, an arm with fewer than 2 units, roles that clash, constant or empty covariates, bad weights or counts,
#'   duplicate ids. Rows whose treatment is missing are left out with the warning `twin_warning_dropped`;
#'   `twin_warning_stray_text` tells of text that is nearly all numbers or dates, and so becomes a factor of many
#'   levels. Imputed data sets that differ in rows, treatment, clusters, strata or weights are an error
#'   (`twin_error_input`, fields `rows` or `column`).
#' @references Barnard, J., Rubin, D. B. (1999). Small-sample degrees of freedom with multiple imputation. Biometrika
#'   86. \doi{10.1093/biomet/86.4.948}
#'
#'   Rubin, D. B. (1987). Multiple Imputation for Nonresponse in Surveys. Wiley. \doi{10.1002/9780470316696}
#' @family question
#' @examples
#' frame_study(crews, treatment = "joined", outcome = "income",
#'             covariates = ~ boat_length + crew_size + port_size, cluster = "harbour")
#' @export
frame_study <- function(data, treatment, outcome, covariates = NULL,
                        estimand = "ATT", treated = NULL, weight = NULL, frequency = NULL, cluster = NULL,
                        stratum = NULL, id = NULL, subset = NULL, missing = c("flag", "drop", "stop"), event = NULL,
                        missing_outcome = c("keep", "drop"), graph = NULL, logged = NULL, unknown = NULL,
                        categories = NULL, imputation = NULL, ...) {
  call <- rlang::current_env()
  check_no_more(...names(), ...length(), setdiff(names(formals()), "..."), call)
  estimand <- check_choice(estimand, names(estimands))
  missing <- check_choice(missing, c("flag", "drop", "stop"))
  missing_outcome <- check_choice(missing_outcome, c("keep", "drop"))
  asked <- mget(setdiff(names(formals()), "..."))
  if (are_several_sets(data, imputation)) return(frame_imputed(frame_study, asked, call))
  if (inherits(data, "twin_remote")) return(frame_remote(asked, call))
  check_units(data, call)
  attr(data, "class") <- "data.frame"  # data.table and tibble index differently; columns are not copied
  roles <- list(treatment = treatment, outcome = outcome, weight = weight, cluster = cluster, stratum = stratum,
                id = id, frequency = frequency)
  check_roles(data, roles, call)
  by_graph <- if (!is.null(graph)) {
    asked <- covariates
    covariates <- covariates_by_graph(graph, covariates, treatment, outcome[1L], data, call)
    graph_words(graph, asked, treatment, outcome[1L])
  }
  wanted <- parse_covariates(covariates, data, unlist(roles), call = call)
  check_role_clashes(roles, wanted$names, call)
  data <- declared_columns(data, c(wanted$names, outcome, treatment), unknown, categories, call)

  row_of <- NULL
  if (!is.null(frequency)) {
    again <- repeat_rows(data, frequency, subset, id, call)
    data <- again$data
    subset <- again$subset
    row_of <- again$row_of
  }
  inside <- subset_rows(subset, data, call)
  check_used_columns(data, c(unlist(roles), wanted$names), c(outcome, weight, wanted$names), which(inside), call)
  arms <- read_treatment(data[[treatment]], treatment, treated, inside, call)
  inside <- inside & !is.na(arms$z)
  dropped <- c("outside the subset" = nrow(data) - arms$considered, "treatment missing" = arms$missing)
  if (missing != "flag") {
    incomplete <- incomplete_rows(data, wanted$names, inside, missing, call)
    dropped <- c(dropped, "a covariate missing" = sum(incomplete))
    inside <- inside & !incomplete
  }
  check_logged(logged, outcome, data, call)
  if (missing_outcome == "drop") {
    without <- inside & Reduce(`|`, lapply(data[outcome], is.na))
    dropped <- c(dropped, "an outcome missing" = sum(without))
    inside <- inside & !without
  }
  rows <- which(inside)
  z <- arms$z[rows]
  check_arm_sizes(z, arms$levels, dropped, call)
  pick <- function(name) if (length(rows) == nrow(data)) data[[name]] else some_rows(data[[name]], rows)
  s <- if (!is.null(weight)) check_weight(pick(weight), weight, z, arms$levels, rows, call)
  mean_weight <- if (is.null(s)) rep(1, length(rows)) else s
  columns <- lapply(stats::setNames(nm = wanted$names),
                    function(name) prepare_column(pick(name), name, mean_weight, call))
  matrices <- new_matrix_cache()
  if (!is.null(wanted$formula)) {  # its terms must be finite: say so now
    study_matrix(list(matrices = matrices), columns, wanted$formula, call)
  }
  for (name in wanted$names) warn_stray_text(data[[name]], name, rows)
  if (!is.null(id)) check_id(pick(id), id, rows, call)
  new_study(list(
    data = data, row_of = row_of, rows = rows, roles = roles, levels = arms$levels, z = z, s = s,
    cluster = if (!is.null(cluster)) group_codes(pick(cluster), cluster, "cluster", rows, call),
    stratum = if (!is.null(stratum)) group_codes(pick(stratum), stratum, "stratum", rows, call),
    columns = columns, formula = wanted$formula, estimand = estimand, missing = missing, logged = logged,
    dropped = dropped[dropped > 0], by_graph = by_graph, graph = graph,
    events = check_outcomes(data, outcome, event, rows, call)
  ), matrices)
}

# Open the seal: the only place where outcome values are handed out. Returns doubles, NA where missing, one per
# study row, with the attribute `shares` (TRUE when the values are 0/1).
open_outcome <- function(study, outcome, by) {
  refuse_remote(study)
  log_opening(study, outcome, by)
  coded_outcome(study$data[[outcome]][study$rows], study$events[[outcome]])
}

# event: the value that counts as 1; NA for numbers.
coded_outcome <- function(values, event) {
  if (is.na(event)) return(structure(as.double(values), shares = FALSE))
  structure(as.double(as.character(values) == event), shares = TRUE)
}

log_opening <- function(study, outcome, by) {
  opened <- any(vapply(study$logbook$entries, function(entry) entry$verb == "open" && entry$what == outcome, NA))
  if (!opened) log_step(study, "open", outcome, settings = list(by = by))
}

# Text compared with a number is compared letter by letter, which hardly anybody means.
check_comparisons <- function(condition, data, call) {
  if (!is.call(condition)) return(invisible(condition))
  sides <- as.list(condition)[-1L]
  if (as.character(condition[[1L]])[1L] %in% c("<", "<=", ">", ">=", "==", "!=", "%in%") && length(sides) == 2L) {
    texts <- vapply(sides, function(side) {
      if (is.name(side)) is.factor(data[[as.character(side)]]) || is.character(data[[as.character(side)]]) else FALSE
    }, NA)
    numbers <- vapply(sides, function(side) is.numeric(side) || (is.call(side) && is_numeric_c(side)), NA)
    if (any(texts) && any(numbers)) {
      name <- as.character(sides[[which(texts)]])
      abort_input(c("{.arg subset} compares text with a number: {.code {deparse1(condition)}}.",
                    x = "{.val {name}} holds text.", i = "Put the value in quotes, or turn the column into numbers."),
                  column = name, call = call)
    }
  }
  for (side in sides) check_comparisons(side, data, call)
}

is_numeric_c <- function(side) {
  identical(side[[1L]], quote(c)) && all(vapply(as.list(side)[-1L], is.numeric, NA))
}

# Columns that are used must hold one value per row that can be read, and numbers that can be squared. names: all of
# them; numbers: those that are computed with.
check_used_columns <- function(data, names, numbers, rows, call) {
  for (name in unique(names)) check_column_kind(data[[name]], name, call)
  for (name in unique(numbers)) check_magnitude(data[[name]], name, rows, call)
}

check_column_kind <- function(x, name, call) {
  if (is.list(x) || !is.null(dim(x))) {
    abort_input(c("Column {.val {name}} can't be used: it is {.obj_type_friendly {x}}.",
                  i = "Make it a plain column with one value per row."), column = name, call = call)
  }
  text <- if (is.factor(x)) levels(x) else if (is.character(x)) unique(x) else names(attr(x, "labels", exact = TRUE))
  text <- as.character(text)
  bad <- text[!is.na(text) & !validUTF8(text)]
  if (length(bad) > 0L) {
    abort_input(c("The text in column {.val {name}} is not UTF-8.", x = "For example {describe_value(bad[1L])}.",
                  i = "Turn it with {.code iconv(x, \"latin1\", \"UTF-8\")}, or read the file with its encoding."),
                column = name, call = call)
  }
}

# Squares and their sums must fit into a double, both ways.
check_magnitude <- function(x, name, rows, call) {
  if (!is.double(x) || inherits(x, c("Date", "POSIXt", "integer64"))) return(invisible(x))
  x <- some_rows(x, rows)
  x <- x[is.finite(x)]
  if (length(x) == 0L) return(invisible(x))
  ends <- value_ends(x)
  large <- max(abs(ends)) > 1e100
  small <- ends[1L] < ends[2L] && max(ends[2L] - ends[1L], abs(ends)) < 1e-100
  if (!large && !small) return(invisible(x))
  abort_input(c("The numbers in {.val {name}} are too {if (large) 'large' else 'small'} to compute with.",
                x = "They lie between {signif(ends[1L], 3)} and {signif(ends[2L], 3)}.",
                i = if (large) "Divide them by a power of 10, or look for a code that stands for missing." else
                  "Multiply them by a power of 10."), column = name, call = call)
}

check_roles <- function(data, roles, call) {
  check_string(roles$treatment, arg = "treatment", call = call)
  check_columns(roles$treatment, data, "treatment", call)
  if (!is.character(roles$outcome) || length(roles$outcome) == 0L || anyNA(roles$outcome)) {
    abort_input("{.arg outcome} must be one or several column names in quotes.", call = call)
  }
  check_columns(roles$outcome, data, "outcome", call)
  for (role in setdiff(names(roles), c("treatment", "outcome"))) {
    check_string(roles[[role]], null = TRUE, arg = role, call = call)
    if (!is.null(roles[[role]])) check_columns(roles[[role]], data, arg = role, call = call)
  }
}

check_role_clashes <- function(roles, covariates, call) {
  if (roles$treatment %in% roles$outcome) {
    abort_input("{.val {roles$treatment}} can't be both treatment and outcome.", call = call)
  }
  if (roles$treatment %in% covariates) {
    abort_input(c("The treatment {.val {roles$treatment}} can't be among the covariates.",
                  i = "Take it out of {.arg covariates}."), column = roles$treatment, call = call)
  }
  both <- intersect(roles$outcome, covariates)
  if (length(both) > 0L) {
    abort_input(c(
      "The outcome {.val {both}} can't be among the covariates.",
      i = "Adjusting for what came after the treatment biases the effect; take it out of {.arg covariates}."
    ), column = both, call = call)
  }
}

# TRUE for the rows of the study; a condition that is NA keeps the row out.
subset_rows <- function(subset, data, call) {
  n <- nrow(data)
  if (is.null(subset)) return(rep(TRUE, n))
  if (rlang::is_formula(subset)) {
    check_columns(all.vars(subset), data, "subset", call)
    condition <- subset[[length(subset)]]
    check_comparisons(condition, data, call)
    subset <- tryCatch(
      withCallingHandlers(eval(condition, data, environment_of(subset)),
                          warning = function(w) stop(conditionMessage(w))),
      error = function(e) stop_formula(e, "subset", call)
    )
  }
  if (is.logical(subset) && length(subset) == n) return(!is.na(subset) & subset)
  is_rows <- is.numeric(subset) && all(subset %in% seq_len(n)) && !anyDuplicated(subset)
  if (is_rows) return(seq_len(n) %in% subset)
  abort_input(c(
    "{.arg subset} must be a one-sided formula, a logical vector with one entry per row, or row numbers.",
    x = "It is {.obj_type_friendly {subset}} of length {length(subset)}; the data have {n} rows."
  ), call = call)
}

# z for every row of the data (NA where missing or outside), and the labels of both arms.
read_treatment <- function(x, name, treated, inside, call) {
  x <- if (is.logical(x)) x else plain_column(x, name, call)
  if (!all(inside)) x[!inside] <- NA
  values <- sort(unique(x))
  text <- as.character(values)
  code <- match(x, values)
  counts <- tabulate(code, length(values))
  listing <- sprintf("%s (%d row%s)", dQuote(text, FALSE), counts, ifelse(counts == 1L, "", "s"))
  check_two_values(text, listing, name, call)
  if (text[1L] == text[2L]) {
    abort_input(c("The two values of the treatment {.val {name}} can't be told apart in print.",
                  x = "Both read {.val {text[1L]}}; they differ by {values[2L] - values[1L]}.",
                  i = "Round the column first."), column = name, call = call)
  }
  treated <- treated_level(treated, text, listing, name, call)
  z <- as.integer(code == match(treated, text))
  missing <- sum(inside & is.na(z))
  if (missing > 0L) {
    warn_kind("dropped", c(
      "{missing} row{?s} {?is/are} left out: the treatment {.val {name}} is missing there.",
      i = "First rows: {first_rows(which(inside & is.na(z)))}."
    ))
  }
  list(z = z, levels = c(treated = treated, control = setdiff(text, treated)), missing = missing,
       considered = sum(inside))
}

# listing: the values with their counts.
check_two_values <- function(text, listing, name, call) {
  if (length(text) == 2L) return(invisible(text))
  abort_input(c(
    "The treatment {.val {name}} must have two values.",
    x = "It has {length(text)}: {utils::head(listing, 6)}{if (length(text) > 6) ', ...'}.",
    i = if (length(text) > 2L) "Choose two with {.arg subset}." else "Nothing is left to compare."
  ), column = name, levels = text, call = call)
}

treated_level <- function(treated, text, listing, name, call) {
  if (is.null(treated) && !is.null(plain_yes(text))) return(plain_yes(text))
  if (is.null(treated)) {
    abort_input(c(
      "Which value of {.val {name}} means treated?",
      x = "It has the values {listing}.",
      i = "Say so: {.code treated = \"{text[2L]}\"} or {.code treated = \"{text[1L]}\"}."
    ), column = name, levels = text, call = call)
  }
  if (is_single_value(treated) && as.character(treated) %in% text) return(as.character(treated))
  abort_input(c(
    "{.arg treated} must be one of the two values of {.val {name}}.",
    x = "It is {describe_value(treated)}; the values are {listing}."
  ), column = name, levels = text, call = call)
}

incomplete_rows <- function(data, names, inside, missing, call) {
  absent <- vapply(names, function(name) sum(is.na(data[[name]]) & inside), 0)
  absent <- absent[absent > 0]
  incomplete <- rep(FALSE, nrow(data))
  for (name in names(absent)) incomplete <- incomplete | (is.na(data[[name]]) & inside)
  if (missing == "stop" && length(absent) > 0L) {
    listing <- sprintf("%s (%d)", dQuote(names(absent), FALSE), as.integer(absent))
    abort_input(c(
      "Covariates must have no missing values under {.code missing = \"stop\"}.",
      x = "Missing in {listing}; first rows: {first_rows(which(incomplete))}.",
      i = "Use {.code missing = \"flag\"} to fill and mark them, or {.code missing = \"drop\"}."
    ), columns = names(absent), rows = which(incomplete), call = call)
  }
  incomplete
}

check_arm_sizes <- function(z, levels, dropped, call) {
  check_sizes(c(treated = sum(z == 1L), control = sum(z == 0L)), levels, dropped, call)
}

# size: units by arm.
check_sizes <- function(size, levels, dropped, call) {
  small <- names(size)[size < 2L]
  if (length(small) == 0L) return(invisible(size))
  lost <- dropped[dropped > 0]
  arm <- small[1L]
  abort_input(c(
    "Each arm must have at least 2 units.",
    x = "The {arm} arm ({.val {levels[[arm]]}}) has {size[[arm]]}.",
    i = if (length(lost) > 0L) "Left out: {paste(lost, names(lost), collapse = ', ')}."
  ), arm = arm, counts = size, call = call)
}

check_weight <- function(s, name, z, levels, rows, call) {
  if (!is.numeric(s)) abort_input("The weight {.val {name}} must be numbers.", column = name, call = call)
  bad <- which(!is.finite(s) | s < 0)
  if (length(bad) > 0L) {
    abort_input(c(
      "The weight {.val {name}} must be finite and not negative.",
      x = "{sum(!is.finite(s))} {?is/are} missing or infinite and {sum(is.finite(s) & s < 0)} negative;
           first rows: {first_rows(rows[bad])}.",
      i = "Correct {cli::qty(length(bad))}{?it/them} or leave {?the row/the rows} out with {.arg subset}."
    ), column = name, rows = rows[bad], call = call)
  }
  s <- as.double(s)
  empty <- c(treated = sum(s[z == 1L]), control = sum(s[z == 0L])) == 0
  if (any(empty)) {
    arm <- names(which(empty))[1L]
    abort_input("All weights in {.val {name}} are 0 in the {arm} arm ({.val {levels[[arm]]}}).",
                column = name, call = call)
  }
  s
}

check_id <- function(x, name, rows, call) {
  if (anyNA(x)) {
    abort_input(c("The id {.val {name}} must not be missing.",
                  x = "First rows without one: {first_rows(rows[is.na(x)])}."), column = name, call = call)
  }
  repeated <- which(duplicated(x))
  if (length(repeated) == 0L) return(invisible(x))
  abort_input(c(
    "The id {.val {name}} must name each unit once.",
    x = "{length(unique(x[repeated]))} id{?s} repeat{?s/}: {.val {as.character(first_rows(unique(x[repeated])))}};
         first repeated rows: {first_rows(rows[repeated])}.",
    i = "For repeated observations of the same units, name the column as {.arg cluster} instead."
  ), column = name, rows = rows[repeated], call = call)
}

group_codes <- function(x, name, role, rows, call) {
  if (anyNA(x)) {
    abort_input(c(
      "The {role} {.val {name}} must not be missing.",
      x = "It is in {sum(is.na(x))} row{?s}; first: {first_rows(rows[is.na(x)])}.",
      i = "Fill {cli::qty(sum(is.na(x)))}{?it/them} or leave {?the row/the rows} out with {.arg subset}."
    ), column = name, rows = rows[is.na(x)], call = call)
  }
  values <- unique(x)
  structure(match(x, values), labels = as.character(values))
}

check_logged <- function(logged, outcome, data, call) {
  if (is.null(logged)) return(invisible(logged))
  if (!is.character(logged) || length(logged) == 0L || anyNA(logged) || !all(logged %in% outcome)) {
    abort_input(c("{.arg logged} must name outcomes of the study.", x = "It is {describe_value(logged)}.",
                  i = "The outcomes are {.val {outcome}}."), call = call)
  }
  words <- logged[!vapply(data[logged], is.numeric, NA)]
  if (length(words) > 0L) {
    abort_input("{.arg logged} names {.val {words}}, which {cli::qty(length(words))}{?holds/hold} no numbers.",
                call = call)
  }
}

# For each outcome: NA when it is a number, else the value that counts as 1.
check_outcomes <- function(data, outcome, event, rows, call) {
  if (!is.null(event) && !(is.atomic(event) && length(event) > 0L && !anyNA(event))) {
    abort_input(c("{.arg event} must be a value of the outcome, or several named by outcome.",
                  x = "It is {describe_value(event)}."), call = call)
  }
  if (!is.null(event) && is.null(names(event))) {
    values <- lapply(data[outcome], function(x) event_values(event_column(x[rows], "an outcome", call)))
    two <- outcome[lengths(values) > 0L]
    if (length(two) == 0L) two <- outcome[1L]  # which says what is wrong
    event <- stats::setNames(rep_len(event, length(two)), two)
  }
  unused <- setdiff(names(event), outcome)
  if (length(unused) > 0L) abort_input("{.arg event} names no outcome: {.val {unused}}.", call = call)
  lapply(stats::setNames(nm = outcome), function(name) {
    outcome_event(data[[name]][rows], name, if (name %in% names(event)) event[[name]], call)
  })
}

event_column <- function(x, name, call) if (is.logical(x)) x else plain_column(x, name, call)

outcome_event <- function(x, name, event, call) {
  infinite <- if (is.double(x)) which(is.infinite(x))
  if (length(infinite) > 0L) {
    abort_input(c("The outcome {.val {name}} must be finite.",
                  x = "It is infinite in {plural(length(infinite), 'row')}.",
                  i = "Recode {cli::qty(length(infinite))}{?it/them} or set {?it/them} to NA."), column = name,
                call = call)
  }
  x <- event_column(x, name, call)
  values <- event_values(x)
  if (is.null(values) && !is.null(event)) {
    abort_input(c("{.arg event} is for outcomes with two values; {.val {name}} holds other numbers.",
                  i = "Leave it out, or name the outcome it belongs to: {.code event = c(name = value)}."),
                column = name, call = call)
  }
  if (is.null(values)) return(NA_character_)
  if (length(values) != 2L) {
    abort_input(c(
      "The outcome {.val {name}} must be numbers or have two values.",
      x = "It has {length(values)} values: {.val {utils::head(values, 6)}}."
    ), column = name, call = call)
  }
  if (is.null(event) && !is.null(plain_yes(values))) return(plain_yes(values))
  if (!is.null(event) && event %in% values) return(event)
  abort_input(c(
    "Which value of the outcome {.val {name}} counts as 1?",
    x = "It has the values {.val {values}}.",
    i = "Say so: {.code event = \"{values[2L]}\"} or {.code event = \"{values[1L]}\"}."
  ), column = name, levels = values, call = call)
}

# The values of an outcome that is not a plain number; NULL for one that is.
event_values <- function(x) {
  if (is.logical(x)) return(c("FALSE", "TRUE"))
  if (is.factor(x)) return(levels(x))
  if (is.double(x) && any(!is.na(x)) && is_zero_one(x)) c("0", "1")
}

# Names of some of the study's outcomes; the first by default.
check_outcomes_asked <- function(outcome, study, call = rlang::caller_env()) {
  known <- study$roles$outcome
  if (is.null(outcome)) return(known[1L])
  outcome <- as_given(outcome, call = call)
  if (!is.character(outcome) || length(outcome) == 0L || anyNA(outcome)) {
    abort_input(c("{.arg outcome} must be names of the study's outcomes in quotes.",
                  x = "It is {describe_value(outcome)}."), call = call)
  }
  stray <- setdiff(outcome, known)
  if (length(stray) == 0L) return(unique(outcome))
  near <- nearest_name(stray[1L], known)
  abort_input(c(
    "{.arg outcome} must be one of the study's outcomes.",
    x = "It is {.val {stray}}; the study has {.val {known}}.",
    i = if (is.null(near)) "Name it in {.fn frame_study}." else "Did you mean {.val {near}}?"
  ), call = call)
}
