# What every effect can do, for effects over time.

#' @exportS3Method
study_of.twin_did <- function(x) x$study # nolint: object_name_linter. An S3 method.

#' @export
tidy.twin_did <- function(x, conf.level = x$level, part = c("effects", "units", "periods", # nolint: object_name_linter.
                                                           "fit"), ...) {
  rlang::check_dots_empty()
  part <- check_choice(part, c("effects", "units", "periods", "fit"))
  if (part != "effects") return(synthetic_part(x, part))
  check_level(conf.level)
  table <- x$table
  se <- sqrt(diag(x$vcov))
  se[table$kind == "base"] <- NA_real_
  statistic <- table$estimate / se
  half <- core_t_quantile(conf.level, x$df) * se
  limits <- list(low = table$estimate - half, high = table$estimate + half)
  if (!is.null(x$limits)) {
    check_own_level(x, conf.level)
    limits <- list(low = x$limits[, 1L], high = x$limits[, 2L])
  }
  out <- data.frame(
    outcome = x$outcome, estimator = x$estimator, estimand = x$estimand, term = table$term, estimate = table$estimate,
    std.error = unname(se), statistic = unname(statistic),
    p.value = unname(if (is.null(x$p.value)) core_t_p_value(statistic, x$df) else x$p.value),
    conf.low = unname(limits$low), conf.high = unname(limits$high),
    df = unname(rep_len(x$df, nrow(table))),
    table[intersect(c("cohort", "time", "event_time", "kind", "n_treated", "n_comparison", "reason", "reach", "changed",
                      "so_far", "dose", "what"), names(table))]
  )
  if (x$outcome %in% x$study$logged) out <- cbind(out, percent_columns(out))
  if (!is.null(x$bands)) {
    check_own_level(x, conf.level)
    moving <- if (x$over == "dose") is_dose_effect(out) else out$kind != "base" & out$term != "average"
    out$band.low <- ifelse(moving, out$estimate - x$bands * out$std.error, NA_real_)
    out$band.high <- ifelse(moving, out$estimate + x$bands * out$std.error, NA_real_)
  }
  out
}

# The weights of a synthetic comparison, and its fit.
synthetic_part <- function(x, part, call = rlang::caller_env()) {
  if (is.null(x$synthetic)) {
    abort_input(c("{.code part = \"{part}\"} is for a synthetic comparison.",
                  i = "Measure it with {.code estimator = \"synthetic\"}."), call = call)
  }
  if (part == "fit") return(synthetic_fit(x$synthetic))
  panel <- x$study
  rows <- Map(function(one, cohort) {
    if (part == "units") {
      order <- order(one$weight, decreasing = TRUE)
      return(data.frame(cohort = cohort, unit = panel$unit_labels[one$used][order], weight = one$weight[order]))
    }
    if (is.null(one$period_weight)) return(NULL)
    data.frame(cohort = cohort, period = panel$periods$label[one$before], weight = one$period_weight)
  }, x$synthetic, names(x$synthetic))
  out <- do.call(rbind, unname(rows))
  if (is.null(out)) return(data.frame(cohort = character(), period = character(), weight = numeric()))
  rownames(out) <- NULL
  out
}

# What differences of logs are in per cent.
percent_columns <- function(table) {
  data.frame(percent = 100 * expm1(table$estimate), percent.error = 100 * exp(table$estimate) * table$std.error,
             percent.low = 100 * expm1(table$conf.low), percent.high = 100 * expm1(table$conf.high))
}

# Bands and inverted tests were made for one level.
check_own_level <- function(x, level, call = rlang::caller_env()) {
  if (level == x$level) return(invisible(level))
  abort_input(c("This effect's {if (is.null(x$limits)) 'bands' else 'interval'} hold{if (is.null(x$limits)) '' else 's'}
                 for level {x$level} only.", i = "Ask for another {.arg level} when making it."), call = call)
}

#' @export
glance.twin_did <- function(x, ...) {
  rlang::check_dots_empty()
  panel <- x$study
  cells <- x$cells
  book <- summary(logbook(x))
  data.frame(
    outcome = x$outcome, estimator = x$estimator, estimand = x$estimand, over = x$over,
    adjustment = x$asked$adjustment, comparison = if (uses_comparison(x)) x$asked$comparison else NA_character_,
    anticipation = x$asked$anticipation, nobs = x$nobs, units = sum(unit_copies(panel)), periods = nrow(panel$periods),
    cells = if (is.null(cells)) NA_integer_ else nrow(cells),
    not_estimable = if (is.null(cells)) NA_integer_ else sum(!is.na(cells$reason)), missing_outcome = x$missing,
    clusters = x$clusters, df = core_least_df(x$df), inference = x$inference,
    estimates_tried = book$before + book$after, cautions = caution_cell(x)
  )
}

#' @export
augment.twin_did <- function(x, ...) {
  rlang::check_dots_empty()
  if (is_own_remote(x$study)) refuse_remote(x$study)
  out <- as.data.frame(core_cluster_sums(x$source, x$combine, x$shift, x$cluster) * x$clusters)
  names(out) <- paste0(".influence_", x$table$term)
  data.frame(.cluster = x$cluster_labels, out, check.names = FALSE)
}

#' @export
nobs.twin_did <- function(object, ...) object$nobs

# For comparisons: each cluster's sum stands on the first row of the data that belongs to it (in a database, in the
# place of its label; single units are not known there), and rows are independent.
#' @exportS3Method
row_structure.twin_did <- function(effect) NULL # nolint: object_name_linter. An S3 method.

#' @exportS3Method
row_contributions.twin_did <- function(effect, terms) { # nolint: object_name_linter. An S3 method.
  if (is_own_remote(effect$study)) return(matrix(NA_real_, 1L, length(terms)))
  data <- effect$study$data
  sets <- are_sets(effect$study$cluster)  # called by their first unit
  own <- data[[if (sets) effect$study$roles$unit else effect$cluster_name]]
  labels <- if (is_remote(effect$study)) attr(effect$study$cluster, "labels")
  known <- if (!is.null(labels)) labels else if (!is.null(own)) as.character(own)
  at <- if (is.null(known)) as.integer(effect$cluster_labels) else match(effect$cluster_labels, known)
  keep <- match(terms, effect$table$term)
  sums <- core_cluster_sums(effect$source, effect$combine[, keep, drop = FALSE],
                            if (!is.null(effect$shift)) effect$shift[, keep, drop = FALSE], effect$cluster)
  out <- matrix(0, if (is.null(labels)) nrow(data) else length(labels), length(terms))
  out[at, ] <- sums
  out
}
