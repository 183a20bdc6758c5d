#' Probe an effect with placebos
#'
#' Measures the effect again where there should be none: on outcomes that the treatment can't have changed, in groups
#' that it can't have reached, and over time from dates at which it had not yet begun. An effect found there is a sign
#' of bias; none found is reassuring as far as its interval is short.
#'
#' Each placebo is measured as the effect was: same design or panel, estimator and settings. In groups the whole design
#' is run anew on the group's units. The joint test takes account of the placebos sharing units.
#'
#' @param x An effect (or [several], one by one) of [measure_effect()] or [measure_did()] (cells are averaged over all
#'   that is treated).
#' @param outcomes Names of columns of the data that the treatment can't have changed, such as the outcome of an earlier
#'   year. They need not have been named in the study, but must not be among its covariates, on which the design is
#'   balanced by itself. For `event` see [frame_study()]: yes/no columns must be 0/1, TRUE/FALSE or yes/no.
#' @param groups A list with names of one-sided formulas, each a condition on the data, such as
#'   `list("no road" = ~ market_km > 40)`; a single formula is fine too.
#' @param dates Over time: how many periods earlier treatment is pretended to begin, such as `1:3`; only rows from
#'   before it really did are used.
#' @param level Confidence level; that of `x` by default.
#' @return A `twin_probe`. `tidy()` gives one row per placebo: `kind` ("outcome", "group", "date"), `placebo`,
#'   `estimate`, `std.error`, `statistic`, `p.value`, `conf.low`, `conf.high`, `units`. `tidy(part = "joint")`:
#'   `statistic`, `df`, `p.value` of the test that all placebo effects are 0 (NA when their covariance is not known).
#'   `glance()`: `placebos`, `p.value` (joint), `smallest` (smallest p-value of one), `effect` (the real one).
#' @section Errors: `twin_error_input` when nothing is asked for, unknown columns, covariates among the outcomes or
#'   conditions that hold for nobody; `twin_error_unsupported` for dates without a panel, hazard ratios, several arms.
#'   Placebos that can't be measured are left out with the warning `twin_warning_placebo`, which says why.
#' @references Rosenbaum, P. R. (2002). Observational Studies, 2nd ed. Springer. \doi{10.1007/978-1-4757-3692-2}
#' @family hidden bias
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size + market_km)
#' effect <- study |> score_units() |> weigh_units() |> measure_effect()
#' probe_placebo(effect, outcomes = "past_income")
#' panel <- frame_panel(harbours, outcome = "price", time = "quarter", unit = "harbour", treatment = "cold_store")
#' probe_placebo(measure_did(panel), dates = 1:2)
#' @export
probe_placebo <- function(x, outcomes = NULL, groups = NULL, dates = NULL, level = x$level) {
  if (are_effects(x)) return(in_each_part(x$effects, "effect", probe_placebo, match.call()))
  if (is_pooled(x)) return(in_each_set(x, probe_placebo, match.call()))
  check_effect(x)
  refuse_remote(study_of(x))
  if (length(c(outcomes, groups, dates)) == 0L) {
    abort_input(c("Say where there should be no effect: {.arg outcomes}, {.arg groups} or {.arg dates}.",
                  i = "For example an outcome from before the treatment."))
  }
  check_level(level)
  groups <- check_placebo_groups(groups, study_of(x)$data)
  check_placebo_outcomes(outcomes, x)
  over_time <- inherits(x, "twin_did")
  check_placebo_kind(x, dates, over_time)
  again <- if (over_time) panel_placebo else study_placebo
  asked <- c(
    lapply(outcomes, function(name) list(kind = "outcome", label = name, outcome = name)),
    Map(function(inside, name) list(kind = "group", label = name, inside = inside), groups, names(groups)),
    lapply(sort(dates), function(early) list(kind = "date", label = early_words(early), early = early))
  )
  made <- run_pieces("Placebos", unname(asked), function(piece) {
    tryCatch({
      effect <- again(x, piece)
      if (isTRUE(main_row(effect)$std.error > 0)) effect else "it does not vary"
    }, twin_error = function(e) conditionMessage(e))
  })
  failed <- vapply(made, is.character, NA)
  if (all(failed)) {
    abort_input(c("No placebo can be measured.", x = "{asked[[1L]]$label}: {sub('\n.*', '', made[[1L]])}"))
  }
  warn_placebos(asked[failed], made[failed])
  rows <- do.call(rbind, Map(placebo_row, asked[!failed], made[!failed], level))
  log_probe(x, sprintf("%s of %s", plural(nrow(rows), "placebo"), x$outcome))
  joint <- placebo_test(made[!failed], rows)
  new_probe("placebo", rows, list(outcome = x$outcome, effect = main_row(x)$estimate, level = level, joint = joint,
                                  treatment = treatment_word(x)), list(joint = as.data.frame(as.list(joint))))
}

early_words <- function(early) sprintf("%d %s early", as.integer(early), if (early == 1) "period" else "periods")

treatment_word <- function(x) {
  roles <- study_of(x)$roles
  if (!is.null(roles$treatment)) roles$treatment else "treatment"
}

# Sensitivity runs stand in the logbook, but are no new designs.
log_probe <- function(x, what, counts = "", settings = list(), worst = NA_real_) {
  log_step(study_of(x), "probe", what, counts, settings, worst = worst)
}

# That a probe was run, unless it was given numbers.
log_probed <- function(x, kind) {
  if (!is_wider_effect(x) && !inherits(x, c("twin_effect", "twin_did"))) return(invisible(x))
  log_once(study_of(x), "probe", sprintf("%s: %s, %s", kind, x$outcome, x$design))
}

placebo_row <- function(piece, effect, level) {
  row <- main_row(effect, level)
  numbers <- c("estimate", "std.error", "statistic", "p.value", "conf.low", "conf.high")
  data.frame(kind = piece$kind, placebo = piece$label, row[numbers], units = units_of(effect))
}

# Units, which in a panel have several rows.
units_of <- function(effect) {
  panel <- study_of(effect)
  if (isTRUE(panel$repeats)) length(panel$cohort) else stats::nobs(effect)
}

# The same design on another outcome, or made anew within a group.
study_placebo <- function(x, piece) {
  study <- study_of(x)
  asked <- x$source$asked
  if (piece$kind == "outcome") {
    y <- placebo_values(study$data, piece$outcome, study$rows)
    block <- x$source$block
    block[c("outcome", "shares")] <- list(piece$outcome, attr(y, "shares"))
    x$source$block <- block
    asked["family"] <- list(NULL)
    return(remeasure(x, asked = asked, y = as.double(y)))
  }
  rows <- which(piece$inside[study$rows])
  check_arm_sizes(study$z[rows], study$levels, integer(), rlang::caller_env())
  remeasure(x, remake(study_rows(study, rows), design_recipe(design_of(x))), asked, rows = rows)
}

placebo_values <- function(data, name, rows) {
  values <- data[[name]][rows]
  coded_outcome(values, outcome_event(values, name, NULL, rlang::caller_env()))
}

# The panel framed anew on some of its rows, with treatment moved or another outcome, and measured with the same
# settings.
panel_placebo <- function(x, piece) {
  panel <- study_of(x)
  roles <- panel$roles
  data <- panel$data[panel$rows, , drop = FALSE]
  position <- panel$periods$position[panel$time]
  onset <- panel$cohorts$position[panel$cohort[panel$unit]]
  data$.period <- position
  data$.onset <- ifelse(is_treated_cohort(panel)[panel$cohort[panel$unit]], onset, Inf)
  keep <- rep(TRUE, nrow(data))
  if (piece$kind == "date") {
    keep <- position < data$.onset
    data$.onset <- data$.onset - piece$early
  }
  if (piece$kind == "group") keep <- piece$inside[panel$rows]
  outcome <- if (piece$kind == "outcome") piece$outcome else x$outcome
  event <- panel$events[[x$outcome]]
  covariates <- if (!is.null(panel$formula)) panel$formula else names(panel$columns)
  again <- suppressWarnings(frame_panel(
    data[keep, , drop = FALSE], outcome = outcome, time = ".period", unit = roles$unit, group = roles$group,
    first_treated = ".onset", covariates = if (length(panel$columns) > 0L) covariates, weight = roles$weight,
    cluster = roles$cluster,
    missing = panel$missing, event = if (piece$kind != "outcome" && !is.na(event)) event
  ))
  asked <- x$asked
  passed <- c("adjustment", "comparison", "base", "small_sample", "parallel", "factors", "trends")
  own <- asked[intersect(did_estimator_of(x)$arguments, passed)]
  if (!is.null(asked$third)) own <- c(own, third = asked$third$name, affected = asked$third$levels[["treated"]])
  if (!is.null(asked$absorbed)) own$absorb <- asked$absorbed
  suppressWarnings(do.call(measure_did, c(list(
    again, estimator = x$estimator, anticipation = asked$anticipation, collapse = asked$collapse, level = x$level
  ), Filter(Negate(is.null), own)))) |> main_number()
}

# That all placebo effects are 0.
placebo_test <- function(effects, rows) {
  terms <- lapply(effects, main_term)
  shares <- Map(placebo_shares, effects, terms)
  keys <- unique(unlist(lapply(shares, names)))
  contributions <- vapply(shares, function(own) {
    unname(ifelse(keys %in% names(own), own[keys], 0))
  }, numeric(length(keys)))
  correlation <- correlation_of(core_vcov(matrix(contributions, length(keys)) * length(keys)))
  vcov <- correlation * outer(rows$std.error, rows$std.error)
  # matching with replacement has no influence contributions
  if (any(vapply(effects, `[[`, NA, "reuse")) && length(effects) > 1L) {
    return(c(statistic = NA_real_, df = length(effects), p.value = NA_real_))
  }
  core_zero_test(rows$estimate, vcov, least_df(effects))
}

# What each cluster, matched set or unit adds to an estimate, named by it.
placebo_shares <- function(effect, term) {
  if (inherits(effect, "twin_did")) {
    sums <- core_cluster_sums(effect$source, effect$combine, effect$shift, effect$cluster)
    return(stats::setNames(sums[, match(term, effect$table$term)], effect$cluster_labels))
  }
  code <- row_structure(effect)
  own <- row_contributions(effect, term)[, 1L]
  if (is.null(code)) code <- seq_along(own)
  if (length(effect$clusters) == 0L && !is.null(effect$sets)) code <- seq_along(own)  # sets differ between groups
  sums <- rowsum(own, code)
  stats::setNames(sums[, 1L], rownames(sums))
}

check_placebo_outcomes <- function(outcomes, x, call = rlang::caller_env()) {
  if (is.null(outcomes)) return(invisible(outcomes))
  if (!is.character(outcomes) || anyNA(outcomes)) {
    abort_input("{.arg outcomes} must be column names in quotes.", call = call)
  }
  study <- study_of(x)
  check_columns(outcomes, study$data, "outcomes", call)
  balanced <- intersect(outcomes, names(study$columns))
  if (length(balanced) > 0L) {
    abort_input(c("{.val {balanced}} {?is a covariate/are covariates}: the design balances {?it/them}, so that no effect
                   on {?it/them} proves nothing.",
                  i = "Frame the study without {cli::qty(length(balanced))}{?it/them} to use {?it/them} as
                       {?a placebo/placebos}."),
                columns = balanced, call = call)
  }
  taken <- intersect(outcomes, c(study$roles$treatment, x$outcome))
  if (length(taken) > 0L) abort_input("{.val {taken}} can't be a placebo of itself.", columns = taken, call = call)
}

# Named list of logical vectors over the data's rows.
check_placebo_groups <- function(groups, data, call = rlang::caller_env()) {
  if (is.null(groups)) return(list())
  if (rlang::is_formula(groups)) groups <- stats::setNames(list(groups), deparse1(groups[[length(groups)]]))
  if (!is_named_list(groups) || !all(vapply(groups, rlang::is_formula, NA))) {
    abort_input(c("{.arg groups} must be a one-sided formula, or a list of them with names.",
                  i = "For example {.code list(\"no road\" = ~ market_km > 40)}."), call = call)
  }
  lapply(groups, function(condition) {
    inside <- subset_rows(condition, data, call)
    if (any(inside)) return(inside)
    abort_input("The condition {.code {deparse1(condition)}} holds for nobody.", call = call)
  })
}

check_placebo_kind <- function(x, dates, over_time, call = rlang::caller_env()) {
  panel <- if (over_time) study_of(x)
  if (over_time && identical(x$over, "dose")) {
    abort_unsupported(c("An effect by dose has its placebo in itself: the rows \"before\".",
                        i = "Read them, or give {.fn probe_placebo} an effect of all doses together."), call = call)
  }
  if (over_time && (is_switching(panel) || is_carried(panel) || is_held(panel))) {
    what <- if (is_carried(panel))
      "The design that units count by would have to be made anew for each placebo." else if (is_held(panel))
        "Placebos frame the panel anew and would not know what is held." else
      "Placebo dates of treatment that switches are the periods before the first switch."
    abort_unsupported(c(what, i = "Look at {.fn assess_trends}, and at the path before treatment."), call = call)
  }
  if (inherits(x, "twin_hazard")) {
    abort_unsupported(c("Placebos are for differences, not for hazard ratios.", i = "Use {.fn measure_effect}."),
                      call = call)
  }
  if (!over_time && is_contrast_of_arms(design_of(x))) {
    abort_unsupported(c("Placebos are for studies of two arms.", i = "Frame one contrast with {.fn frame_study}."),
                      call = call)
  }
  if (is.null(dates)) return(invisible(dates))
  if (!over_time) {
    abort_unsupported(c("Placebo {.arg dates} need a panel; this effect has no time.",
                        i = "Use {.arg outcomes} from before the treatment."), call = call)
  }
  early <- x$asked$anticipation
  if (is.numeric(dates) && all(is.finite(dates), dates > early, dates == round(dates))) return(invisible(dates))
  abort_input("{.arg dates} must be whole numbers of periods above {early}.", call = call)
}

warn_placebos <- function(asked, reasons, call = rlang::caller_env()) {
  if (length(asked) == 0L) return(invisible())
  labels <- vapply(asked, `[[`, "", "label")
  lines <- gsub("([{}])", "\\1\\1", paste0(labels, ": ", sub("\n.*", "", unlist(reasons))))
  warn_kind("placebo", c("{length(asked)} placebo{?s} can't be measured and {?is/are} left out.",
                         stats::setNames(lines, rep("x", length(lines)))), placebos = labels)
}

#' @export
glance.twin_probe_placebo <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(placebos = nrow(x$rows), p.value = x$facts$joint[["p.value"]], smallest = min(x$rows$p.value),
             effect = x$facts$effect)
}
