#' Measure what histories of treatment do
#'
#' Opens the outcome after the last period and estimates its mean under stated histories of treatment, and how each
#' differs from the last one stated ([Methods, "Treatment over time"](../doc/methods.html#treatment-over-time)). Beside
#' it stands what a raw comparison and an ordinary regression that adjusts for the changing confounders would have said.
#'
#' * `"weighted"`: a regression of the outcome on the history, by the running weights (Robins, Hernan & Brumback 2000).
#'   Its `form` says what of a history counts: `"cumulative"`, the number of periods treated; `"periods"`, each period
#'   by itself; `"exact"`, means of those who followed a stated history all along.
#' * `"augmented"`: regressions from the last period back to the first, each augmented by the weights of those who
#'   followed the history so far (Bang & Robins 2005): right when either scores or regressions are. Nothing is assumed
#'   on how periods add up.
#'
#' @param x A `twin_course` of [frame_course()] with weights (`"augmented"`: with scores).
#' @param outcome Name of the outcome; the first by default.
#' @param histories A named list of histories, a 0/1 for each period: by default `always` and `never`. Differences are
#'   from the last.
#' @param estimator `"weighted"` (default) or `"augmented"`.
#' @param form For `"weighted"`: `"cumulative"` (default), `"periods"` or `"exact"`.
#' @param cluster Name of a column of clusters, constant within units, in place of the study's. Units are clusters
#'   without being asked.
#' @param level Confidence level, default 0.95.
#' @return A `twin_course_effect`. `tidy()`: `history`, `against`, `estimate` (difference in means), `std.error`,
#'   `statistic`, `p.value`, `conf.low`, `conf.high`. `tidy(x, part = "means")`: `history`, `estimate`, `std.error`,
#'   `conf.low`, `conf.high`, `followed` (units that followed it to the end). `tidy(x, part = "beside")`: the first
#'   difference by this estimator, `"raw"` and `"ordinary adjustment"`. `tidy(x, part = "slopes")`: coefficients of the
#'   weighted regression. `glance()`, `nobs()`, `augment()` as usual.
#' @section Errors: `twin_error_input` for histories that are no 0/1 for each period, or that nobody follows where that
#'   is needed; without weights or scores.
#' @references Bang, H., Robins, J. M. (2005). Doubly robust estimation in missing data and causal inference models.
#'   Biometrics 61. \doi{10.1111/j.1541-0420.2005.00377.x}
#'
#'   Robins, J. M., Hernan, M. A., Brumback, B. (2000). Marginal structural models and causal inference in epidemiology.
#'   Epidemiology 11. \doi{10.1097/00001648-200009000-00011}
#' @family effects
#' @examples
#' study <- frame_course(seasons, treatment = "stored", outcome = "savings", time = "season", unit = "crew",
#'                       covariates = c("boat_length", "port_size"), changing = c("debt", "catch"))
#' design <- study |> score_units() |> weigh_units()
#' measure_course(design)
#' measure_course(design, estimator = "augmented", histories = list(late = c(0, 0, 1, 1), never = c(0, 0, 0, 0)))
#' @export
measure_course <- function(x, outcome = NULL, histories = NULL, estimator = c("weighted", "augmented"),
                           form = c("cumulative", "periods", "exact"), cluster = NULL, level = 0.95) {
  call <- rlang::current_env()
  check_class(x, "twin_course", "frame_course")
  outcome <- check_outcomes_asked(outcome, x$base)
  if (length(outcome) != 1L) abort_input("{.arg outcome} must be one outcome.")
  estimator <- check_choice(estimator, names(course_estimators))
  refuse_stray(strays_of(estimator, course_estimators, names(Filter(Negate(is.null), given_arguments(match.call())))),
               sprintf("estimator = \"%s\"", estimator),
               call = call)
  form <- check_choice(form, c("cumulative", "periods", "exact"))
  check_level(level)
  histories <- check_histories(histories, x, call)
  if (is.null(x$score)) abort_input(c("The course has no scores.", i = "Call {.fn score_units} and {.fn weigh_units}."))
  if (course_estimators[[estimator]]$weights && is.null(x$weight)) {
    abort_input(c("The course has no weights.", i = "Call {.fn weigh_units}."))
  }
  clusters <- course_clusters(x, as_given(cluster), call)
  y <- open_outcome(x$base, outcome, "measure_course")
  asked <- list(outcome = outcome, histories = histories, estimator = estimator, form = form, level = level,
                clusters = clusters)
  made <- with_cautions(measure_histories(x, as.double(y), attr(y, "shares"), asked, call), x$cautions)
  log_once(x$base, "measure", sprintf("%s histories on %s, %s", estimator, outcome, question_label(x)),
           settings = list(form = if ("form" %in% course_estimators[[estimator]]$options) form))
  made
}

# A matrix of histories and periods.
check_histories <- function(histories, x, call) {
  count <- length(x$at$periods)
  if (is.null(histories)) histories <- list(always = rep(1, count), never = rep(0, count))
  is_history <- function(own) (is.numeric(own) || is.logical(own)) && length(own) == count && all(own %in% 0:1)
  good <- is_named_list(histories) && length(histories) >= 2L && !anyDuplicated(names(histories)) &&
    all(vapply(histories, is_history, NA))
  if (!good) {
    abort_input(c("{.arg histories} must be a named list of at least two histories, with a 0 or 1 for each of the
                   {count} period{?s}.", i = "For example list(always = rep(1, {count}), never = rep(0, {count}))."),
                call = call)
  }
  do.call(rbind, lapply(histories, as.double))
}

# list(codes: a list of codes per unit, name).
course_clusters <- function(x, cluster, call) {
  found <- effect_clusters(x$base, cluster, call)
  if (length(found$codes) > 1L) abort_unsupported("Histories cluster by one column.", call = call)
  if (length(found$codes) == 0L) return(found)
  rows <- found$codes[[1L]]
  first <- of_units(x, rows)
  if (!identical(as.integer(first[x$at$unit]), as.integer(rows))) {
    abort_input(c("The cluster {.val {found$name}} must not change within a unit."), column = found$name, call = call)
  }
  list(codes = list(first), name = found$name)
}

# On another course of the same units, the outcome being open.
measure_again <- function(x, asked) {
  y <- open_outcome(x$base, asked$outcome, "probe_ratio")
  measure_histories(x, as.double(y), attr(y, "shares"), asked, NULL)
}

measure_histories <- function(x, y, shares, asked, call) {
  units <- length(x$at$names)
  final <- at_the_end(x, y, NA_real_)
  s <- of_units(x, sampling_weight(x$base))
  if (any(rowSums(abs(as_periods(x, sampling_weight(x$base)) - s), na.rm = TRUE) > 0)) {
    abort_input(c("The weight {.val {x$base$roles$weight}} must not change within a unit."), call = call)
  }
  known <- !is.na(final)
  if (sum(known & s > 0) < 10L) {
    abort_input("Only {sum(known & s > 0)} unit{?s} {?has/have} a known {.val {asked$outcome}} in the last period.",
                call = call)
  }
  taken <- as_periods(x, as.double(x$base$z))
  followed <- vapply(seq_len(nrow(asked$histories)), function(h) {
    sum(known & rowSums(abs(sweep(taken, 2L, asked$histories[h, ])), na.rm = FALSE) %in% 0)
  }, 0L)
  data <- list(y = final, s = s * known, taken = taken, units = units, known = known)
  found <- course_estimators[[asked$estimator]]$measure(x, data, asked, followed, shares, call)
  aside <- list(raw = plain_history(x, data, asked, NULL), "ordinary adjustment" = plain_history(
    x, data, asked, ordinary_columns(x)))
  new_course_effect(x, data, asked, found, aside, followed)
}

# What of a history counts: rows of histories (or units) by columns.
history_basis <- function(taken, asked) {
  switch(asked$form,
         cumulative = cbind(`(never)` = 1, "each period treated" = rowSums(taken)),
         periods = {
           out <- cbind(1, taken)
           colnames(out) <- c("(never)", paste("treated in period", seq_len(ncol(taken))))
           out
         },
         exact = {
           key <- function(m) apply(m, 1L, paste, collapse = "")
           out <- outer(key(taken), key(asked$histories), `==`) + 0
           colnames(out) <- rownames(asked$histories)
           out
         })
}

# list(estimate, influence: units x histories, slopes: a data frame).
weighted_histories <- function(x, data, asked, followed, call) {
  if (asked$form == "exact" && any(followed < 2L)) {
    lone <- rownames(asked$histories)[followed < 2L]
    abort_input(c("{.code form = \"exact\"} needs at least 2 units that followed each history to the end.",
                  x = "{.val {lone}} {?has/have} {followed[followed < 2L]}.",
                  i = "Use {.code form = \"cumulative\"}, or {.code estimator = \"augmented\"}."), call = call)
  }
  basis <- history_basis(ifelse(is.na(data$taken), 0, data$taken), asked)
  at <- history_basis(asked$histories, asked)
  weight <- at_the_end(x, x$weight, 0)
  free <- at_the_end(x, x$kept$free, 0)
  v <- data$s * weight
  slopes <- course_factors(x)$slopes
  carry <- function(d) {  # every factor of a unit moves its last weight
    on <- (d * weight * free)[x$at$unit]
    core_carry_course(on, on, x$at$unit, data$units, slopes)
  }
  curve <- core_curve_at(ifelse(data$known, data$y, 0), basis, rbind(at, diag(ncol(basis))), v, data$s, carry)
  count <- nrow(at)
  own <- seq_len(count)
  list(estimate = curve$estimate[own], influence = curve$influence[, own, drop = FALSE],
       slopes = list(term = colnames(basis), estimate = curve$estimate[-own],
                     influence = curve$influence[, -own, drop = FALSE]))
}

augmented_histories <- function(x, data, asked, shares, call) {
  wide <- wide_columns(x)
  seen <- !is.na(data$taken)
  periods <- ncol(seen)
  factors <- course_factors(x, stabilised = FALSE)
  running <- as_periods(x, core_running_products(factors$factor, x$at$unit))
  running[is.na(running)] <- 0
  lags <- x$score$lags
  parts <- lapply(seq_len(nrow(asked$histories)), function(h) {
    own <- asked$histories[h, ]
    agrees <- (data$taken == rep(own, each = data$units)) & seen
    follows <- running * along_periods(agrees, cumprod)
    models <- sequential_models(x, wide, data$taken, own, lags)
    made <- core_sequential_mean(data$y, of_units(x, sampling_weight(x$base)), seen, follows, models$z, models$there,
                                 if (shares) "logit" else "linear")
    if (made$status != "converged") {
      abort_convergence(c("The regression of period {.val {x$at$periods[made$period]}} did not converge.",
                          i = "Use fewer covariates."), call = call)
    }
    # a score of a period moves the running weights of all later ones
    back <- rev(seq_len(periods))
    later <- along_periods(made$on[, back, drop = FALSE], cumsum)[, back, drop = FALSE]
    pull <- later[cbind(x$at$unit, x$at$period)]
    carried <- core_carry_course(pull, after_rows(x, pull), x$at$unit, data$units, factors$slopes)
    list(estimate = made$estimate, influence = made$influence + carried)
  })
  list(estimate = vapply(parts, `[[`, 0, "estimate"), influence = do.call(cbind, lapply(parts, `[[`, "influence")))
}

# Per unit the value of its row of the last period, `otherwise` for those who left before.
at_the_end <- function(x, values, otherwise) {
  last <- last_rows(x)
  out <- rep(otherwise, length(x$at$names))
  out[x$at$unit[last]] <- values[last]
  out
}

# A running sum or product over the columns of a matrix.
along_periods <- function(m, f) {
  dims <- dim(m)
  matrix(t(matrix(apply(m, 1L, f), dims[2L])), dims[1L])
}

# The value of the unit's next row, 0 in its last.
after_rows <- function(x, values) {
  out <- c(values[-1L], 0)
  out[c(x$at$unit[-1L], 0L) != x$at$unit] <- 0
  out
}

# Model matrices of each period's regression: as things were, and had the history been followed: covariates, what
# changes now and `lags` periods back, treatment now and in all periods before.
sequential_models <- function(x, wide, taken, own, lags) {
  changing <- vapply(names(wide), function(name) changes_over_time(x, name), NA)
  known <- ifelse(is.na(taken), 0, taken)
  periods <- seq_along(own)
  make <- function(t, treatment) {
    back <- seq_len(min(lags, t - 1L))
    now <- vapply(wide, function(m) m[, t], numeric(nrow(taken)))
    before <- lapply(back, function(k) vapply(wide[changing], function(m) m[, t - k], numeric(nrow(taken))))
    do.call(cbind, c(list(1), lapply(rev(seq_len(t)), treatment), list(now), before))
  }
  list(z = lapply(periods, make, treatment = function(t) known[, t]),
       there = lapply(periods, make, treatment = function(t) rep(own[t], nrow(taken))))
}

# Covariates and what changes in each period, as an ordinary regression has them.
ordinary_columns <- function(x) {
  wide <- wide_columns(x)
  do.call(cbind, lapply(names(wide), function(name) {
    if (changes_over_time(x, name)) wide[[name]] else wide[[name]][, 1L]
  }))
}

# Every column of the model's matrix as units by periods, 0 where a unit has left.
wide_columns <- function(x) {
  lapply(column_vectors(x$base$columns), function(values) {
    m <- as_periods(x, values)
    m[is.na(m)] <- 0
    m
  })
}

# The first difference by a regression on the history without weights: list(estimate, influence).
plain_history <- function(x, data, asked, columns) {
  basis <- history_basis(ifelse(is.na(data$taken), 0, data$taken), asked)
  at <- history_basis(asked$histories, asked)
  gap <- at[1L, ] - at[nrow(at), ]
  more <- if (is.null(columns)) 0L else ncol(columns)
  s <- data$s * (rowSums(basis) > 0)  # who followed none of the histories tells nothing of exact ones
  core_curve_at(ifelse(data$known, data$y, 0), cbind(basis, columns), rbind(c(gap, numeric(more))), s, s,
                function(d) 0)[c("estimate", "influence")]
}

new_course_effect <- function(x, data, asked, found, aside, followed) {
  count <- nrow(asked$histories)
  names <- rownames(asked$histories)
  reads <- rbind(diag(count), cbind(diag(count - 1L), -1))
  slopes <- found$slopes
  influence <- cbind(found$influence %*% t(reads), aside$raw$influence, aside[[2L]]$influence, slopes$influence)
  stratum <- of_units(x, x$base$stratum)
  cluster <- if (length(asked$clusters$codes) > 0L) asked$clusters$codes[[1L]]
  used <- data$s > 0
  if (!is.null(cluster)) check_cluster_count(cluster[used], asked$clusters$name, NULL, "")
  counted <- if (course_estimators[[asked$estimator]]$weights) used else rep(TRUE, data$units)
  out <- core_vcov(influence, cluster, stratum, counted, lonely = "centre")
  strata <- if (is.null(stratum)) 1L else length(unique(stratum))
  df <- if (is.null(cluster) && is.null(stratum)) Inf else core_known_df(out$clusters - strata)
  ends <- c(1L, count)
  values <- c(drop(reads %*% found$estimate), aside$raw$estimate, aside[[2L]]$estimate, slopes$estimate)
  rows <- estimate_rows(values, sqrt(diag(out$vcov)), df, asked$level)
  rows$statistic <- rows$estimate / rows$std.error
  rows <- rows[c("estimate", "std.error", "statistic", "p.value", "conf.low", "conf.high")]
  rownames(rows) <- NULL
  place <- function(from, length) rows[from + seq_len(length), ]
  effects <- data.frame(history = names[-count], against = names[count], place(count, count - 1L), row.names = NULL)
  means <- data.frame(history = names, place(0L, count)[c("estimate", "std.error", "conf.low", "conf.high")],
                      followed = followed, row.names = NULL)
  ways <- rbind(effects[1L, names(rows)], place(2L * count - 1L, 2L))
  structure(list(
    study = x$base, outcome = asked$outcome, estimator = asked$estimator, form = asked$form, effects = effects,
    means = means, ways = data.frame(by = c(asked$estimator, names(aside)), ways, row.names = NULL),
    slopes = if (!is.null(slopes)) data.frame(term = slopes$term, place(2L * count + 1L, length(slopes$term)),
                                              row.names = NULL),
    histories = asked$histories, periods = x$at$periods, roles = x$roles, design = question_label(x),
    level = asked$level,
    df = df, inference = course_errors(asked, out, stratum, x), worst = worst_period_gap(x),
    counts = c(units = data$units, known = sum(data$known), missing = sum(!data$known)),
    effective = effective_courses(x),
    ratio = ratio_of_means(values[ends], out$vcov[ends, ends], df, asked$level),
    outcome_sd = outcome_spread(data$y, data$s),
    influence = influence[, count + seq_len(count - 1L), drop = FALSE], names = x$at$names, used = used,
    shares = !is.na(x$base$events[[asked$outcome]]), source = list(x = x, asked = asked), cautions = character()
  ), class = "twin_course_effect")
}

course_errors <- function(asked, out, stratum, x) {
  paste0(if (length(asked$clusters$codes) == 0L) "by unit" else
    sprintf("clustered by %s (%d)", asked$clusters$name, out$clusters),
    if (!is.null(stratum)) sprintf(", within %s", x$base$roles$stratum), ", with the estimated scores",
    course_estimators[[asked$estimator]]$errors, " accounted for")
}

#' @exportS3Method
study_of.twin_course_effect <- function(x) x$study # nolint: object_name_linter. An S3 method.

#' @export
tidy.twin_course_effect <- function(x, part = c("effects", "means", "beside", "slopes"), # nolint: object_name_linter.
                                    ...) {
  rlang::check_dots_empty()
  part <- check_choice(if (missing(part)) "effects" else part,
                       c("effects", "means", "beside", if (!is.null(x$slopes)) "slopes"))
  x[[if (part == "beside") "ways" else part]]
}

#' @export
as.data.frame.twin_course_effect <- function(x, ...) generics::tidy(x, ...)

#' @export
glance.twin_course_effect <- function(x, ...) {
  rlang::check_dots_empty()
  row <- x$effects[1L, ]
  data.frame(outcome = x$outcome, estimator = x$estimator, row, nobs = x$counts[["known"]], effective = x$effective,
             worst_smd = x$worst, df = x$df)
}

#' @export
nobs.twin_course_effect <- function(object, ...) object$counts[["known"]]

#' @export
augment.twin_course_effect <- function(x, ...) {
  rlang::check_dots_empty()
  influence <- as.data.frame(x$influence)
  names(influence) <- paste0(".influence_", x$effects$history)
  data.frame(unit = x$names, .used = x$used, influence, check.names = FALSE)
}
