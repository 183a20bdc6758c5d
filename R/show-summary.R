# What R's own generics give where an object has nothing special of its own to say: one row of numbers by glance(), rows
# by tidy(), both together with the print by summary().

#' Summarise any result in words and numbers
#'
#' `summary()` shows what `print()` does and, below it, the numbers of `glance()` by name; as.data.frame() of it gives
#' these as a data frame. `glance()` of what comes before effects counts units and says where balance stands; `tidy()`
#' has one row per covariate of a study, cohort of a panel, arrow of a graph or step of a logbook.
#'
#' @param x A study, panel, design, set of arms, graph, logbook or any other result of this package.
#' @param ... Must be empty.
#' @return `summary()`: a `twin_summary`. `glance()`: a data frame of one row (of a set of effects or designs one
#'   each). Of a study: `treatment`, `estimand`, `nobs`, `n_treated`, `n_control`, `outcomes`, `covariates`,
#'   `missing_covariates` (values), `missing_outcomes` (of all outcomes), `clusters`, `dropped` (rows). Of a design:
#'   `design`, `kind`, `estimand`, `nobs`, `n_treated`, `n_control`, `ess_treated`, `ess_control`, `sets`, `worst_smd`,
#'   `worst_covariate`. Of a panel: `units`, `periods`, `rows`, `cohorts`, `n_treated`, `never_treated`, `balanced`. Of
#'   arms: `treatment`, `reference`, `estimand`, `nobs`, `arms`, `worst_smd`. Of a first table: `rows`, `n_treated`,
#'   `n_control`, `worst_smd`, `worst_covariate`. Of compared scores: `scores`, `best`, `worst_smd`, `passing`, `rows`.
#'   Of a logbook: `steps`, `opened`, `designs_before`, `designs_after`. Of a graph: `nodes`, `arrows`, `unobserved`,
#'   `exposure`, `outcome`. Of sets to adjust for: `sets`, `smallest`. `tidy()` of a study: `covariate`, `label`,
#'   `kind`, `levels` (their number), `missing`; of sets: `set`, `size`, `covariate`.
#' @family judging
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' glance(study)
#' tidy(study)
#' summary(weigh_units(score_units(study)))
#' @name summaries
#' @rawNamespace S3method(summary, twin_study, summary_of)
#' @rawNamespace S3method(summary, twin_design, summary_of)
#' @rawNamespace S3method(summary, twin_arms, summary_of)
#' @rawNamespace S3method(summary, twin_effect, summary_of)
#' @rawNamespace S3method(summary, twin_effects, summary_of)
#' @rawNamespace S3method(summary, twin_comparison, summary_of)
#' @rawNamespace S3method(summary, twin_overlap, summary_of)
#' @rawNamespace S3method(summary, twin_weights, summary_of)
#' @rawNamespace S3method(summary, twin_arms_balance, summary_of)
#' @rawNamespace S3method(summary, twin_arms_overlap, summary_of)
#' @rawNamespace S3method(summary, twin_several, summary_of)
#' @rawNamespace S3method(summary, twin_calibration, summary_of)
#' @rawNamespace S3method(summary, twin_responses, summary_of)
#' @rawNamespace S3method(summary, twin_power, summary_of)
#' @rawNamespace S3method(summary, twin_variation, summary_of)
#' @rawNamespace S3method(summary, twin_dose, summary_of)
#' @rawNamespace S3method(summary, twin_dose_balance, summary_of)
#' @rawNamespace S3method(summary, twin_response, summary_of)
#' @rawNamespace S3method(summary, twin_course, summary_of)
#' @rawNamespace S3method(summary, twin_course_balance, summary_of)
#' @rawNamespace S3method(summary, twin_course_effect, summary_of)
#' @rawNamespace S3method(summary, twin_dids, summary_of)
#' @rawNamespace S3method(summary, twin_composition, summary_of)
#' @rawNamespace S3method(summary, twin_trends, summary_of)
#' @rawNamespace S3method(summary, twin_scores, summary_of)
#' @rawNamespace S3method(summary, twin_groups, summary_of)
#' @rawNamespace S3method(summary, twin_decomposition, summary_of)
#' @rawNamespace S3method(summary, twin_probe, summary_of)
#' @rawNamespace S3method(summary, twin_graph, summary_of)
#' @rawNamespace S3method(summary, twin_sets, summary_of)
#' @rawNamespace S3method(summary, twin_set_check, summary_of)
#' @rawNamespace S3method(summary, twin_claims, summary_of)
NULL

summary_of <- function(object, ...) {
  rlang::check_dots_empty()
  structure(list(words = format(object), numbers = generics::glance(object)), class = "twin_summary")
}

#' @export
format.twin_summary <- function(x, ...) {
  blocks <- lapply(seq_len(nrow(x$numbers)), function(i) {
    row <- x$numbers[i, , drop = FALSE]
    unlist(Map(function(name, value) field_lines(name, glance_cell(name, value), 20L), names(row), row),
           use.names = FALSE)
  })
  c(x$words, unlist(lapply(blocks, function(block) c("", block))))
}

#' @export
print.twin_summary <- function(x, ...) print_lines(x, format(x, ...))

#' @export
as.data.frame.twin_summary <- function(x, ...) x$numbers

glance_cell <- function(name, value) {
  if (is.na(value)) return("-")
  if (is.logical(value)) return(if (value) "yes" else "no")
  if (!is.numeric(value)) return(as.character(value))
  if (grepl("p.value", name, fixed = TRUE)) return(p_text(value))
  if (is.finite(value) && value == round(value) && abs(value) < 1e9) count_text(value) else number_text(value)
}

#' @rdname summaries
#' @export
glance.twin_study <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(
    treatment = x$roles$treatment, estimand = x$estimand, nobs = length(x$z), n_treated = sum(x$z),
    n_control = sum(1L - x$z), outcomes = length(x$roles$outcome), covariates = length(x$columns),
    missing_covariates = sum(vapply(x$columns, `[[`, 0L, "missing")), missing_outcomes = sum(missing_outcomes(x)),
    clusters = if (is.null(x$cluster)) NA_integer_ else length(unique(x$cluster)), dropped = sum(x$dropped)
  )
}

#' @rdname summaries
#' @export
tidy.twin_study <- function(x, ...) {
  rlang::check_dots_empty()
  columns <- unname(x$columns)
  of <- function(part, type) vapply(columns, `[[`, type, part)
  data.frame(covariate = names(x$columns), label = of("label", ""), kind = of("kind", ""),
             levels = vapply(columns, function(column) {
               if (column$kind %in% c("numeric", "date")) NA_integer_ else length(column_levels(column))
             }, 0L), missing = of("missing", 0L))
}

#' @export
nobs.twin_study <- function(object, ...) length(object$z)

#' @rdname summaries
#' @export
glance.twin_design <- function(x, ...) {
  rlang::check_dots_empty()
  v <- full_weight(x)
  size <- arm_sizes(v, x$study$z)
  worst <- if (alters_sample(x)) worst_imbalance(x) else c(none = NA_real_)
  sets <- if (!is.null(x$pairs)) x$pairs$set else x$set
  data.frame(
    design = design_label(x), kind = x$kind, estimand = x$study$estimand, nobs = sum(v > 0),
    n_treated = sum(v > 0 & x$study$z == 1L), n_control = sum(v > 0 & x$study$z == 0L),
    ess_treated = size[["treated"]], ess_control = size[["control"]],
    sets = if (is.null(sets)) NA_integer_ else length(unique(sets[!is.na(sets)])), worst_smd = unname(worst),
    worst_covariate = if (is.na(worst)) NA_character_ else names(worst)
  )
}

#' @rdname summaries
#' @export
glance.twin_arms <- function(x, ...) {
  rlang::check_dots_empty()
  worst <- if (is.null(x$designs)) NA_real_ else max(unlist(lapply(x$designs, worst_imbalance)))
  data.frame(treatment = x$base$roles$treatment, reference = x$levels[1L], estimand = x$base$estimand,
             nobs = length(x$arm), arms = length(x$levels), worst_smd = worst)
}

#' @rdname summaries
#' @export
glance.twin_panel <- function(x, ...) {
  rlang::check_dots_empty()
  shape <- panel_shape(x)
  treated <- is_treated_cohort(x)[x$cohort]
  data.frame(units = shape$units, periods = shape$periods, rows = shape$rows, cohorts = sum(is_treated_cohort(x)),
             n_treated = sum(treated), never_treated = sum(x$cohorts$position[x$cohort] == Inf),
             balanced = x$repeats && shape$absent == 0)
}

#' @rdname summaries
#' @export
tidy.twin_panel <- function(x, ...) {
  rlang::check_dots_empty()
  summary(x)
}

#' @rdname summaries
#' @export
glance.twin_groups <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- if (is.null(x$by)) x$rows else x$rows[!is.na(x$rows$group), ]
  worst <- which.max(abs(rows$smd))
  none <- length(worst) == 0L
  data.frame(rows = nrow(rows), n_treated = x$counts[["treated"]], n_control = x$counts[["control"]],
             worst_smd = if (none) NA_real_ else abs(rows$smd[worst]),
             worst_covariate = if (none) NA_character_ else row_name(rows$covariate[worst], rows$level[worst]))
}

#' @rdname summaries
#' @export
glance.twin_scores <- function(x, ...) {
  rlang::check_dots_empty()
  best <- x$rows[1L, ]
  data.frame(scores = nrow(x$rows), best = best$score, best[c("worst_smd", "passing", "rows")])
}

#' @rdname summaries
#' @export
glance.twin_logbook <- function(x, ...) {
  rlang::check_dots_empty()
  book <- summary(x)
  data.frame(steps = nrow(x$entries), opened = book$opened, designs_before = book$before, designs_after = book$after)
}

#' @rdname summaries
#' @export
tidy.twin_logbook <- function(x, ...) {
  rlang::check_dots_empty()
  x$entries
}

#' @rdname summaries
#' @export
glance.twin_graph <- function(x, ...) {
  rlang::check_dots_empty()
  end <- function(name) if (is.null(name)) NA_character_ else name
  data.frame(nodes = nrow(x$parents), arrows = sum(x$parents), unobserved = length(x$unobserved),
             exposure = end(x$exposure), outcome = end(x$outcome))
}

#' @rdname summaries
#' @export
tidy.twin_graph <- function(x, ...) {
  rlang::check_dots_empty()
  as.data.frame(x)
}

#' @rdname summaries
#' @export
glance.twin_sets <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(sets = length(x), smallest = if (length(x) == 0L) NA_integer_ else min(lengths(x)))
}

#' @rdname summaries
#' @export
tidy.twin_sets <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(set = rep(seq_along(x), lengths(x)), size = rep(lengths(x), lengths(x)),
             covariate = as.character(unlist(unclass(x))))
}

#' @rdname summaries
#' @export
glance.twin_set_check <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(set = paste(x$set, collapse = ", "), size = length(x$set), sufficient = x$sufficient,
             open_paths = length(x$open))
}

#' @rdname summaries
#' @export
tidy.twin_set_check <- function(x, ...) {
  rlang::check_dots_empty()
  inside <- data.frame(node = x$set, reason = rep("", length(x$set)))
  inside$reason[x$set %in% x$descendants] <- "caused by the exposure"
  inside$reason[x$set %in% x$unobserved] <- "nobody measured it"
  inside$reason[x$set %in% x$opened] <- "a common effect: it opens a path"
  both <- rbind(cbind(inside, in_set = rep(TRUE, nrow(inside))), cbind(x$outside, in_set = rep(FALSE, nrow(x$outside))))
  both[c("node", "in_set", "reason")]
}

#' @export
as.data.frame.twin_set_check <- function(x, ...) generics::tidy(x)

#' @rdname summaries
#' @export
glance.twin_claims <- function(x, ...) {
  rlang::check_dots_empty()
  data.frame(claims = nrow(x), contradicted = if (is.null(x$verdict)) NA_integer_ else sum(x$verdict == "contradicted"))
}

#' @rdname summaries
#' @export
tidy.twin_claims <- function(x, ...) {
  rlang::check_dots_empty()
  as.data.frame(x)
}

#' @export
as.data.frame.twin_claims <- function(x, ...) {
  class(x) <- "data.frame"
  attr(x, "level") <- NULL
  x
}

#' @export
as.data.frame.twin_sets <- function(x, ...) generics::tidy(x)

#' @export
as.data.frame.twin_study <- function(x, ...) generics::tidy(x)

#' @export
as.data.frame.twin_design <- function(x, ...) design_data(x, outcome = FALSE)

#' @export
as.data.frame.twin_arms <- function(x, ...) {
  units <- tabulate(x$arm, length(x$levels))
  data.frame(arm = x$levels, reference = seq_along(x$levels) == 1L, units = units)
}

# ---- pictures of what has none of its own ----

#' Plot a study, first table, set of arms or logbook
#'
#' Of a study and a first table: how far the arms are apart in every covariate. Of scored arms: the chance of each arm,
#' by the arm units are in. Of a logbook: the worst imbalance of every design in its order, and when the outcome was
#' opened.
#'
#' @param x A `twin_study`, `twin_groups`, `twin_arms` or `twin_logbook`.
#' @param ... Must be empty.
#' @return A ggplot.
#' @section Errors: `twin_error_input` for arms without a score and logbooks without designs.
#' @family judging
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income", covariates = ~ boat_length + port_size)
#' plot(study)
#' design <- weigh_units(score_units(study))
#' plot(logbook(design))
#' @name plot_first_look
NULL

#' @rdname plot_first_look
#' @exportS3Method
plot.twin_study <- function(x, ...) {
  rlang::check_dots_empty()
  plot(assess_balance(x))
}

#' @rdname plot_first_look
#' @exportS3Method
plot.twin_groups <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows[!is.na(x$rows$smd), ]
  rows$row <- labelled_rows(rows, x$labels)
  rows$row <- factor(rows$row, unique(rows$row[order(abs(rows$smd))]))
  rows$part <- group_headings(x, rows)
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$smd, y = .data$row)) +
    ggplot2::geom_vline(xintercept = 0, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_segment(ggplot2::aes(x = 0, xend = .data$smd, yend = .data$row), colour = "grey65") +
    ggplot2::geom_point(size = 2.8, colour = twin_colours[["treated"]]) +
    ggplot2::labs(x = "standardized mean difference, treated minus control", y = NULL,
                  title = sprintf("How the arms of %s differ", x$treatment),
                  subtitle = sprintf("Treated: \"%s\" (%s). Control: \"%s\" (%s).", x$levels[["treated"]],
                                                   plural(x$counts[["treated"]], "unit"), x$levels[["control"]],
                                                   plural(x$counts[["control"]], "unit"))) +
    group_facets(x) + twin_look()
}

#' @rdname plot_first_look
#' @exportS3Method
plot.twin_arms <- function(x, ...) {
  rlang::check_dots_empty()
  if (is.null(x$score)) abort_input(c("These arms have no score to draw.", i = "Call {.fn score_units} first."))
  chances <- data.frame(chance = c(x$score$fitted), own = factor(x$levels[x$arm], rev(x$levels)),
                        of = factor(rep(sprintf("chance of \"%s\"", x$levels), each = length(x$arm)),
                                    sprintf("chance of \"%s\"", x$levels)))
  ggplot2::ggplot(chances, ggplot2::aes(x = .data$chance, y = .data$own)) +
    ggplot2::geom_boxplot(fill = "#DCEBEA", colour = twin_colours[["treated"]], outlier.size = 0.6) +
    ggplot2::facet_wrap("of") +
    ggplot2::labs(x = "score", y = sprintf("own arm (%s)", x$base$roles$treatment),
                  title = sprintf("Chance of each arm of %s", x$base$roles$treatment),
                  subtitle = "Arms can be compared where their boxes overlap in every panel.") +
    twin_look()
}

#' @rdname plot_first_look
#' @exportS3Method
plot.twin_logbook <- function(x, ...) {
  rlang::check_dots_empty()
  entries <- x$entries[!is.na(x$entries$worst_smd), ]
  if (nrow(entries) == 0L) {
    abort_input(c("The logbook holds no design yet.", i = "Pair, stratify or weigh units first."))
  }
  opened <- x$entries$step[x$entries$verb == "open"]
  entries$name <- shorten(entries$what, 40L)
  entries$row <- factor(sprintf("%d  %s", entries$step, entries$name),
                        rev(sprintf("%d  %s", entries$step, entries$name)))
  entries$when <- factor(ifelse(length(opened) > 0L & entries$step > min(opened, Inf), "after the outcome was opened",
                                "before"), c("before", "after the outcome was opened"))
  ggplot2::ggplot(entries, ggplot2::aes(x = .data$worst_smd, y = .data$row)) +
    ggplot2::geom_segment(ggplot2::aes(x = 0, xend = .data$worst_smd, yend = .data$row), colour = "grey65") +
    ggplot2::geom_point(ggplot2::aes(shape = .data$when, fill = .data$when), size = 3, stroke = 0.9,
                        colour = twin_colours[["treated"]]) +
    ggplot2::scale_shape_manual(values = c(before = 21, "after the outcome was opened" = 24), name = NULL) +
    ggplot2::scale_fill_manual(values = c(before = twin_colours[["treated"]], "after the outcome was opened" = "white"),
                               name = NULL) +
    ggplot2::scale_x_continuous(limits = c(0, NA), expand = ggplot2::expansion(c(0.02, 0.05))) +
    ggplot2::labs(x = "worst |SMD| left by the step", y = NULL, title = "Designs in the order they were tried",
                  subtitle = seal_sentence(summary(x))) +
    twin_look()
}
