#' Assess how well a score is calibrated
#'
#' Do units with a score of 0.3 get treated three times in ten? Sorts the units into groups of equal size by their score
#' and sets the mean score of each beside the share that was treated. Prediction is not the goal, balance is: a high AUC
#' is no merit but a sign of poor overlap. Both belong to the units the score was fitted to, also where a design has
#' trimmed or paired them since: among pairs any score has a slope near 0, by design.
#'
#' @param x A `twin_design` with a score.
#' @param groups Number of groups, default 10.
#' @return A `twin_calibration`. `tidy()` gives one row per group: `group`, `units`, `low`, `high`, `mean_score`,
#'   `share_treated` (both with sampling weights), `conf.low`, `conf.high` (95%, Wilson's, with the effective sample
#'   size). `glance()` gives `units`, `auc`, `loss` (mean log-loss), and `intercept` and `slope` of a logit of
#'   treatment on the linear score: 0 and 1 when the score is calibrated, a slope under 1 when it is too bold. A logit
#'   score is calibrated by construction on the units it was fitted to; out-of-fold predictions are not.
#' @section Errors: `twin_error_input` without a score.
#' @family judging
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' calibration <- assess_score(score_units(study, learners = c("logit", "tree")))
#' calibration
#' plot(calibration)
#' @export
assess_score <- function(x, groups = 10) {
  if (is_imputed(x)) return(in_each_set(x, assess_score, match.call()))
  check_score(x, "assess_score", remote = TRUE)
  check_count(groups, min = 2, max = 1000)
  found <- if (is_remote(x)) remote_calibration(x, groups) else calibration_facts(x, groups)
  structure(c(found, list(
    score = score_text(x$score), design = design_label(x), levels = x$study$levels, learners = x$score$learners
  )), class = "twin_calibration")
}

calibration_facts <- function(x, groups) {
  study <- x$study
  fitted_to <- if (is.null(x$score$inside)) rep(TRUE, length(study$z)) else x$score$inside
  s <- sampling_weight(study) * fitted_to
  inside <- s > 0
  e <- x$score$fitted[inside]
  z <- study$z[inside]
  s <- s[inside]
  rows <- calibration_rows(e, z, s, groups)
  line <- core_fit(matrix(stats::qlogis(e)), as.double(z), s, "logit")
  fitted <- line$status == "converged" && length(line$aliased) == 0L
  list(
    rows = rows, auc = core_auc(e, z, s), loss = core_log_loss(e, z, s), units = length(e),
    line = if (fitted) line$coefficients else c(NA_real_, NA_real_), since = sum(fitted_to) - sum(design_kept(x))
  )
}

calibration_rows <- function(e, z, s, groups) {
  breaks <- unique(core_weighted_quantiles(e, s, seq_len(groups - 1L) / groups))
  group <- findInterval(e, breaks, left.open = TRUE) + 1L
  rows <- lapply(sort(unique(group)), function(k) {
    own <- group == k
    share <- sum(s[own] * z[own]) / sum(s[own])
    limits <- wilson_limits(share, core_effective_size(s[own]))
    data.frame(group = k, units = sum(own), low = min(e[own]), high = max(e[own]),
               mean_score = sum(s[own] * e[own]) / sum(s[own]), share_treated = share, conf.low = limits[1L],
               conf.high = limits[2L])
  })
  do.call(rbind, rows)
}

# Wilson (1927), 95%.
wilson_limits <- function(share, n) {
  z2 <- stats::qnorm(0.975)^2
  centre <- (share + z2 / (2 * n)) / (1 + z2 / n)
  half <- sqrt(z2 / n * (share * (1 - share) + z2 / (4 * n))) / (1 + z2 / n)
  c(centre - half, centre + half)
}

#' @export
tidy.twin_calibration <- function(x, ...) {
  rlang::check_dots_empty()
  x$rows
}

#' @export
as.data.frame.twin_calibration <- function(x, ...) x$rows

#' @export
glance.twin_calibration <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(units = x$units, auc = x$auc, loss = x$loss, intercept = x$line[1L], slope = x$line[2L])
}
