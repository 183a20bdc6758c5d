#' @export
format.twin_arms <- function(x, ...) {
  study <- x$base
  labels <- vapply(x$steps, `[[`, "", "label")
  c(
    sprintf("Arms of %s, each against \"%s\" (%s)", study$roles$treatment, x$levels[1L], study$estimand),
    if (length(labels) > 0L) field_lines("Design", paste(labels, collapse = ", ")),
    field_lines("Outcome", outcome_text(study)), field_lines("Covariates", covariate_text(study)),
    field_lines("Missing", missing_text(study)), "", table_lines(arms_table(x)), "",
    wrap_lines(arms_advice(x))
  )
}

arms_advice <- function(x) {
  if (is.null(x$score)) return("Next: score_units(), then weigh_units(); or contrasts_of() for two arms at a time.")
  if (is.null(x$designs)) return("Next: weigh_units().")
  "Next: contrasts_of() gives one design per arm: assess_balance(), then measure_effect()."
}

#' @export
print.twin_arms <- function(x, ...) print_lines(x, format(x, ...))

# Effective sizes and worst imbalance against the reference, once there are weights.
arms_table <- function(x) {
  table <- data.frame(Arm = x$levels, Units = count_text(tabulate(x$arm, length(x$levels))))
  if (!is.null(x$score)) {
    own <- split(x$score$fitted[cbind(seq_along(x$arm), x$arm)], x$arm)
    table$`chance of own arm` <- vapply(own, function(e) score_range_text(min(e), max(e)), "")
  }
  if (is.null(x$designs)) return(table)
  sizes <- lapply(x$designs, function(design) arm_sizes(full_weight(design), design$study$z))
  table$Effective <- count_text(round(c(sizes[[1L]][["control"]], vapply(sizes, `[[`, 0, "treated"))))
  table$`worst |SMD|` <- c("-", number_text(unlist(lapply(x$designs, worst_imbalance), use.names = FALSE), 3))
  table
}

#' @export
tidy.twin_arms <- function(x, ...) {
  rlang::check_dots_empty()
  if (is.null(x$score)) abort_input("These arms have no score to tidy; see {.fn score_units}.")
  b <- x$score$coefficients
  se <- sqrt(diag(x$score$covariance))
  estimate <- c(b)
  data.frame(arm = rep(colnames(b), each = nrow(b)), term = rep(rownames(b), ncol(b)), estimate = estimate,
             std.error = se, statistic = estimate / se, p.value = 2 * stats::pnorm(-abs(estimate / se)))
}
