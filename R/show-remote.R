# Prints of what stays in a database: those of rows in memory, and where the rows are.

#' @export
format.twin_remote <- function(x, ...) {
  c(wrap_lines(sprintf("Units in %s: %s, %s.", x$dialect$words, x$label, plural(ncol(x$columns), "column"))),
    wrap_lines(paste0("Columns: ", paste(names(x$columns), collapse = ", "), ".")),
    wrap_lines("Next: frame_study() states the question; fetch_units() draws a sample."))
}

#' @export
print.twin_remote <- function(x, ...) print_lines(x, format(x, ...))

# Where the rows are, and how often they were read.
remote_line <- function(x) {
  source <- study_of(x)$source
  sprintf("Rows stay in %s (%s), read in %s so far.", source$dialect$words, source$label,
          plural(source$counter$passes, "pass", "passes"))
}

#' @export
format.twin_remote_study <- function(x, ...) {
  roles <- x$roles
  group <- function(role) group_text(roles[[role]], x[[role]])
  arm <- function(name) sprintf("%s is \"%s\": %s", roles$treatment, x$levels[[name]], plural(x$size[[name]], "unit"))
  c(
    wrap_lines(sprintf("Study: what did %s do to %s?", roles$treatment, and_list(roles$outcome))),
    field_lines("Asked for", sprintf("%s (%s)", estimands[[x$estimand]]$words, x$estimand)),
    field_lines("Treated", arm("treated")), field_lines("Control", arm("control")),
    field_lines("", "Every difference is treated minus control."),
    field_lines("Outcome", outcome_text(x)), remote_missing_lines(x),
    field_lines("Covariates", covariate_text(x)),
    if (!is.null(x$formula)) field_lines("Terms", study_terms(x)),
    field_lines("Missing", missing_text(x)),
    if (!is.null(roles$weight)) field_lines("Weight", roles$weight),
    if (!is.null(roles$cluster)) field_lines("Cluster", group("cluster")),
    if (!is.null(roles$stratum)) field_lines("Stratum", group("stratum")),
    if (!is.null(roles$id)) field_lines("Id", roles$id),
    if (length(x$dropped) > 0L) {
      field_lines("Left out", paste(count_text(x$dropped), "rows,", names(x$dropped), collapse = "; "))
    },
    wrap_lines(remote_line(x)), wrap_lines("Next: score_units() to start a design.")
  )
}

remote_missing_lines <- function(x) {
  lines <- unlist(lapply(names(x$outcomes), function(name) {
    gone <- x$outcomes[[name]]$missing
    if (sum(gone) == 0) return(NULL)
    field_lines("", sprintf("%s is missing for %s of %s treated and %s of %s control units", name,
                            count_text(gone[["treated"]]), count_text(x$size[["treated"]]),
                            count_text(gone[["control"]]), count_text(x$size[["control"]])))
  }))
  if (is.null(lines)) return(NULL)
  c(lines, field_lines("", paste("Without more an effect is about those who have one. missing_outcome = \"drop\" makes",
                                 "the design among them.")))
}

#' @export
print.twin_remote_study <- function(x, ...) print_lines(x, format(x, ...))

remote_score_text <- function(x) paste0(score_text(x$score), "; ", remote_ends_text(x))

# Between which the scores of the units that are in lie.
remote_ends_text <- function(x) {
  range_of <- function(name) score_range_text(x$score$ends[[name, "low"]], x$score$ends[[name, "high"]])
  sprintf("treated %s, control %s", range_of("treated"), range_of("control"))
}

#' @export
format.twin_remote_design <- function(x, ...) {
  study <- x$study
  size <- remote_arm_sizes(x)
  arm <- function(name) {
    text <- sprintf("\"%s\": %s", study$levels[[name]], plural(study$size[[name]], "unit"))
    if (x$size[[name]] < study$size[[name]]) {
      gone <- if (is.null(x$cells$out)) 0 else x$cells$out[[name]]
      trimmed <- study$size[[name]] - x$size[[name]] - gone
      text <- paste0(text, sprintf(", %s kept", count_text(x$size[[name]])),
                     if (trimmed > 0) sprintf(", %s trimmed", count_text(trimmed)),
                     if (gone > 0) sprintf("; %s out: %s", count_text(gone), unmatched_reasons[2L]))
    }
    if (has_weights(x) || study$weighted) paste0(text, "; effective sample ", count_text(round(size[[name]]))) else text
  }
  aliased <- x$score$aliased
  c(
    wrap_lines(sprintf("Design: %s", design_label(x))),
    field_lines("For", population_text(study$estimand, x$note)),
    field_lines("Treated", arm("treated")), field_lines("Control", arm("control")),
    if (!is.null(x$score)) field_lines("Score", paste0(
      remote_score_text(x),
      if (length(aliased) > 0L) paste0("; left out as explained by others: ", paste(aliased, collapse = ", ")))),
    if (!is.null(x$weighing$truncation)) field_lines("Truncated", truncation_text(x$weighing$truncation)),
    kind_lines(x),
    if (alters_sample(x)) field_lines("Balance", sprintf("worst |SMD| %s; see assess_balance()",
                                                         number_text(worst_imbalance(x)))),
    wrap_lines(remote_line(x)),
    wrap_lines(if (x$kind == "raw") "Next: weigh_units() or stratify_units(), or trim_units() before them." else
      design_advice(x))
  )
}

#' @export
print.twin_remote_design <- function(x, ...) print_lines(x, format(x, ...))

#' @export
format.twin_remote_pairs <- function(x, ...) {
  pairs <- x$pairs
  study <- x$study
  c(
    wrap_lines(sprintf("Design: %s", design_label(pairs))),
    field_lines("For", population_text(study$estimand, pairs$note)),
    arm_lines(pairs, arm_sizes(full_weight(pairs), pairs$study$z)), kind_lines(pairs),
    wrap_lines(sprintf("Ids and scores of %s were fetched to find the pairs; nothing is written yet. Next:",
                       plural(nrow(pairs$study$data), "unit"))),
    "  write_units(pairs, connection, table = \"pairs\")",
    "and frame the rows of both tables with `weight` and `cluster = \"set\"`:",
    sprintf("  SELECT * FROM %s JOIN pairs USING (%s)",
            if (study$source$label == "a query") "..." else study$source$label, study$roles$id),
    wrap_lines(remote_line(x))
  )
}

#' @export
print.twin_remote_pairs <- function(x, ...) print_lines(x, format(x, ...))

#' @export
format.twin_remote_effect <- function(x, ...) c(NextMethod(), wrap_lines(remote_line(x)))

#' @export
glance.twin_remote_study <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(treatment = x$roles$treatment, estimand = x$estimand, n_treated = x$size[["treated"]],
             n_control = x$size[["control"]], covariates = length(x$columns), passes = x$source$counter$passes)
}

#' @export
nobs.twin_remote_study <- function(object, ...) sum(object$size)

#' @export
nobs.twin_remote_design <- function(object, ...) sum(object$size)

#' @export
glance.twin_remote_design <- function(x, ...) {
  rlang::check_dots_empty()
  size <- remote_arm_sizes(x)
  data.frame(design = design_label(x), estimand = x$study$estimand, n_treated = x$size[["treated"]],
             n_control = x$size[["control"]], ess_treated = size[["treated"]], ess_control = size[["control"]],
             worst_smd = if (alters_sample(x)) unname(worst_imbalance(x)) else NA_real_,
             passes = x$study$source$counter$passes)
}

# What hands out rows has none to hand out.
#' @export
weights.twin_remote_design <- function(object, ...) refuse_remote(object)
#' @export
as.data.frame.twin_remote_design <- function(x, ...) refuse_remote(x)
#' @export
as.data.frame.twin_remote_study <- function(x, ...) refuse_remote(x)
#' @export
tidy.twin_remote_study <- function(x, ...) refuse_remote(x)
#' @export
plot.twin_remote_study <- function(x, ...) refuse_remote(x)
#' @export
plot.twin_remote_design <- function(x, ...) refuse_remote(x)
#' @export
augment.twin_remote_effect <- function(x, ...) refuse_remote(x$study)
