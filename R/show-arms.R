#' @export
format.twin_arms <- function(x, ...) {
  study <- x$base
  labels <- vapply(x$steps, `[[`, "", "label")
  c(
    sprintf("Arms of %s, each against \"%s\" (%s)", study$roles$treatment, x$levels[1L], study$estimand),
    if (length(labels) > 0L) field_lines("Design", paste(labels, collapse = ", ")),
    field_lines("Outcome", outcome_text(study)), field_lines("Covariates", covariate_text(study)),
    field_lines("Missing", missing_text(study)),
    if (!is.null(x$designs)) arms_matching_lines(x$designs[[1L]], seq_along(x$levels)), "",
    table_lines(arms_table(x)), "",
    wrap_lines(arms_advice(x))
  )
}

# Of matches of everybody: how near they are, and how often units are used; or how large sets are. x: one of the
# designs.
arms_matching_text <- function(x, arms = NULL) {
  if (!is_matched_arms(x)) return(NULL)
  if (groups_whole_arms(x)) return(c(Sets = arm_set_summary(x)))
  found <- matches_of(x, arms)
  c(Pairs = sprintf("%s; distance on the %s: median %s, largest %s", count_text(nrow(found)), arm_distance_text(x),
                    number_text(stats::median(found$distance)), number_text(max(found$distance))),
    Reuse = arm_reuse_summary(x, found))
}

arms_matching_lines <- function(x, arms = NULL) {
  text <- arms_matching_text(x, arms)
  unlist(Map(field_lines, names(text), text), use.names = FALSE)
}

arm_distance_text <- function(x) {
  switch(pairing_step(x)$on, score = "linear score of the partner's arm", probability = "chance of the partner's arm",
         distance_text(x))
}

arm_reuse_summary <- function(x, found) {
  times <- tabulate(found$partner)
  most <- which.max(times)
  sprintf("%s, %s used more than once; most used: row %d (\"%s\"), %s", plural(sum(times > 0L), "partner"),
          count_text(sum(times > 1L)), x$study$rows[most], arms_behind(x)$arms$levels[arms_behind(x)$arms$arm[most]],
          plural(times[most], "time"))
}

arm_set_summary <- function(x) {
  size <- tabulate(x$set)
  sprintf("%s that hold%s all %d arms; median %s, largest %s", plural(length(size), "set"),
          if (length(size) == 1L) "s" else "", length(arms_behind(x)$arms$levels),
          plural(round(stats::median(size)), "unit"), count_text(max(size)))
}

arms_advice <- function(x) {
  if (!is.null(x$designs)) {
    return("Next: assess_balance(), then measure_effect(); contrasts_of() gives the design of each arm.")
  }
  if (is.null(x$score)) return("Next: score_units(); or contrasts_of() for two arms at a time.")
  "Next: assess_overlap(), then weigh_units(), stratify_units(), pair_units() or group_units()."
}

#' @export
print.twin_arms <- function(x, ...) print_lines(x, format(x, ...))

# Effective sizes and worst imbalance against the reference, once there are designs. Where the population is that of the
# arm compared, the reference's units weigh differently in each.
arms_table <- function(x) {
  count <- function(inside) count_text(tabulate(x$arm[inside], length(x$levels)))
  table <- data.frame(Arm = x$levels, Units = count(TRUE))
  if (!is.null(x$kept)) table$kept <- count(arms_kept(x))
  if (!is.null(x$score)) {
    inside <- arms_weight(x) > 0
    own <- split(x$score$fitted[cbind(seq_along(x$arm), x$arm)][inside], x$arm[inside])
    table$`chance of own arm` <- vapply(own, function(e) score_range_text(min(e), max(e)), "")
  }
  if (is.null(x$designs)) return(table)
  sizes <- lapply(x$designs, function(design) arm_sizes(full_weight(design), design$study$z))
  reference <- count_text(round(vapply(sizes, `[[`, 0, "control")))
  table$Effective <- c(if (arms_share_population(x$base$estimand) && length(unique(reference)) == 1L) reference[1L] else
    "-", count_text(round(vapply(sizes, `[[`, 0, "treated"))))
  if (table$Effective[1L] == "-") table$`of reference` <- c("-", reference)
  table$`worst |SMD|` <- c("-", number_text(unlist(lapply(x$designs, worst_imbalance), use.names = FALSE), 3))
  table
}

#' @export
tidy.twin_arms <- function(x, part = c("score", "learners", "trimming"), ...) {
  rlang::check_dots_empty()
  part <- check_choice(part, c("score", "learners", "trimming"))
  if (part == "trimming") return(arms_trimming(x))
  check_arms_scored(x, "tidy")
  if (part == "learners") {
    if (is.null(x$score$learners)) abort_input("The score of these arms is not by learners; see {.fn score_units}.")
    return(x$score$learners)
  }
  if (is.null(x$score$coefficients)) return(x$score$learners)
  b <- x$score$coefficients
  se <- sqrt(diag(x$score$covariance))
  estimate <- c(b)
  data.frame(arm = rep(colnames(b), each = nrow(b)), term = rep(rownames(b), ncol(b)), estimate = estimate,
             std.error = se, statistic = estimate / se, p.value = 2 * stats::pnorm(-abs(estimate / se)))
}
