# How probes of weights, regressions, placebos and choices look; pairs, ratios and trends stand in show-probe.R.

effect_band <- "#DCEBEA"

# One line that covers estimates, another that is the null.
no_effect_line <- function() ggplot2::geom_hline(yintercept = 0, colour = "grey30", linewidth = 0.5)

subtitle_of <- function(x) wrapped_lines(probe_verdict(x), 95)

# Weights -------------------------------------------------------------------------------------------------------------

weights_table <- function(x, number = number_text) {
  rows <- x$rows
  out <- data.frame(Lambda = format(rows$lambda), estimate = interval_text(rows$estimate_low, rows$estimate_high),
                    interval = interval_text(rows$conf_low, rows$conf_high))
  names(out) <- c("Lambda", "effect between", paste(level_text(x$facts$level), "interval"))
  if (x$facts$draws == 0) out[1:2] else out
}

weights_title <- function(x) {
  facts <- x$facts
  sprintf("Hidden bias in weights: effect on %s (%s, %s), odds of treatment off by up to lambda%s", facts$outcome,
          facts$estimand, if (facts$estimator == "augmented") "augmented" else "weighted means",
          if (facts$draws > 0) sprintf("; intervals from %s bootstrap draws", count_text(facts$draws)) else "")
}

weights_yardstick <- function(x) {
  rows <- x$parts$covariates
  if (is.null(rows)) return(NULL)
  data.frame(`Left out` = rows$covariate, `odds change by up to (95% of units)` = number_text(rows$lambda, 2),
             `any unit` = number_text(rows$lambda_most, 2), `effect then` = number_text(rows$estimate),
             check.names = FALSE)
}

#' @export
format.twin_probe_weights <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(weights_title(x)), table_lines(thin_rows(weights_table(x)), left = 0L),
    yardstick_lines(weights_yardstick(x)), "", wrap_lines(probe_verdict(x)))
}

#' @exportS3Method
probe_verdict.twin_probe_weights <- function(x) { # nolint: object_name_linter.
  facts <- x$facts
  if (isTRUE(facts$lambda_change_interval <= 1)) {
    return("Even without hidden bias the interval holds 0: there is no conclusion to overturn.")
  }
  reach <- function(lambda) if (lambda > 1e6) "no lambda" else paste("lambda", number_text(lambda, 2))
  sprintf(
    paste0("Estimates of 0 come within reach at %s%s: a hidden confounder would have to change the odds of treatment ",
           "by that factor, and predict the outcome almost perfectly.%s"),
    reach(facts$lambda_change),
    if (is.na(facts$lambda_change_interval)) "" else
      sprintf(", intervals that hold 0 at %s", reach(facts$lambda_change_interval)),
    weights_comparison(x)
  )
}

weights_comparison <- function(x) {
  rows <- x$parts$covariates
  if (is.null(rows)) return("")
  sprintf(" Leaving out %s changes them by up to %s for 95%% of the units.", rows$covariate[1L],
          number_text(rows$lambda[1L], 2))
}

#' @export
plot.twin_probe_weights <- function(x, ...) {
  rlang::check_dots_empty()
  marks <- x$parts$covariates
  marks <- if (!is.null(marks)) utils::head(marks[marks$lambda <= max(x$rows$lambda), ], 4L)
  change <- x$facts$lambda_change
  ends <- range(x$rows[c("estimate_low", "estimate_high", "conf_low", "conf_high")], 0, na.rm = TRUE)
  lowest <- ends[1L] - 0.3 * diff(ends)
  ggplot2::ggplot(x$rows, ggplot2::aes(x = .data$lambda)) +
    (if (x$facts$draws > 0) ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$conf_low, ymax = .data$conf_high),
                                                 fill = effect_band)) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$estimate_low, ymax = .data$estimate_high),
                         fill = twin_colours[["treated"]]) +
    no_effect_line() +
    (if (is.finite(change) && change <= max(x$rows$lambda)) ggplot2::geom_vline(
      xintercept = change, linetype = "22", colour = twin_mark, linewidth = 0.8)) +
    (if (is.finite(change) && change <= max(x$rows$lambda)) ggplot2::annotate(
      "text", x = change, y = Inf, vjust = 1.5, hjust = 1.05, size = 3.6, colour = twin_mark,
      label = sprintf("0 within reach at %s", number_text(change, 2)))) +
    (if (NROW(marks) > 0L) ggplot2::geom_point(data = marks, ggplot2::aes(x = .data$lambda, y = lowest), shape = 23,
                                               size = 3, fill = twin_colours[["control"]])) +
    (if (NROW(marks) > 0L) ggplot2::geom_text(data = marks, ggplot2::aes(
      x = .data$lambda, y = lowest, label = .data$covariate), angle = 90, hjust = -0.15, size = 3.4,
      colour = "grey20")) +
    ggplot2::labs(
      x = "lambda: by how much the odds of treatment may be off", y = sprintf("effect on %s", x$facts$outcome),
      title = "How wrong may the weights be?", subtitle = subtitle_of(x),
      caption = paste0("Dark: range of estimates.", if (x$facts$draws > 0) sprintf(
        " Light: %s interval around it.", level_text(x$facts$level)), if (NROW(marks) > 0L)
          " Diamonds: by how much leaving out a covariate changes the odds for 95% of the units.")
    ) +
    theme_twin()
}

# Omitted variable
# ------------------------------------------------------------------------------------------------------

omitted_table <- function(x, number = number_text) {
  rows <- x$rows
  impossible <- is.na(rows$r2_treatment)
  out <- data.frame(
    `As strong as` = paste(format(rows$times, trim = TRUE), "x", rows$covariate),
    treatment = ifelse(impossible, "-", share_text(rows$r2_treatment)),
    outcome = ifelse(impossible, "-", share_text(rows$r2_outcome)), effect = number(rows$estimate),
    interval = ifelse(impossible, "-", interval_text(rows$conf.low, rows$conf.high)), check.names = FALSE
  )
  names(out) <- c("As strong as", "explains of treatment", "of outcome", "effect then",
                  paste(level_text(x$facts$level), "interval"))
  out
}

omitted_title <- function(x) {
  about <- x$facts$about
  fit <- x$facts$fit
  if (!is.null(about$bare)) {
    return(sprintf("Omitted variable: %s %s with %s degrees of freedom", if (about$bare == "t") "t statistic" else
      "coefficient", number_text(fit$estimate), format(fit$df, big.mark = ",")))
  }
  sprintf(paste("Omitted variable: linear regression of %s on the treatment and covariates, %s: coefficient %s,",
                "standard error %s (%s). The effect measured by %s is %s."), about$outcome, about$design,
          number_text(fit$estimate), number_text(fit$se * fit$inflation), about$by, estimator_words[[about$estimator]],
          number_text(about$effect))
}

scenario_sentence <- function(x) {
  rows <- x$parts$scenarios
  sprintf(paste("At worst: one that explains %s of what is left of the outcome needs %s of the treatment%s to bring",
                "the estimate to 0."), and_list(share_axis(rows$r2_outcome)), and_list(share_text(rows$r2_treatment)),
          if (nrow(rows) > 1L) " (in this order)" else "")
}

scenario_table <- function(x) {
  rows <- x$parts$scenarios
  data.frame(`explains of the outcome` = share_axis(rows$r2_outcome),
             `must explain of the treatment` = share_text(rows$r2_treatment), check.names = FALSE)
}

#' @export
format.twin_probe_omitted <- function(x, ...) {
  rlang::check_dots_empty()
  table <- if (nrow(x$rows) > 0L) fit_table(omitted_table(x), c("of outcome", "explains of treatment"))
  c(wrap_lines(omitted_title(x)), if (!is.null(table)) c("", table_lines(table), if (anyNA(x$rows$r2_treatment))
    "  - no confounder can be that strong"), "", wrap_lines(probe_verdict(x)), wrap_lines(scenario_sentence(x)))
}

#' @exportS3Method
probe_verdict.twin_probe_omitted <- function(x) { # nolint: object_name_linter.
  facts <- x$facts
  first <- sprintf(paste("A confounder that explains %s of what the covariates leave both of the treatment and of the",
                         "outcome would bring the estimate to 0"), share_text(facts$robustness))
  if (facts$robustness_interval == 0) {
    return(paste0(first, "; the interval already holds 0: there is no conclusion to overturn."))
  }
  paste0(first, sprintf("; %s would bring the interval onto it.", share_text(facts$robustness_interval)),
         omitted_comparison(x))
}

# The strongest covariate: the one whose confounder would move the estimate most.
omitted_comparison <- function(x) {
  if (nrow(x$rows) == 0L) return("")
  rows <- x$rows[x$rows$times == min(x$rows$times) & !is.na(x$rows$estimate), ]
  if (nrow(rows) == 0L) return("")
  most <- rows[which.max(abs(rows$estimate - x$facts$fit$estimate)), ]
  sprintf(" One like %s explains %s and %s.", most$covariate, share_text(most$r2_treatment),
          share_text(most$r2_outcome))
}

#' @export
plot.twin_probe_omitted <- function(x, ...) {
  rlang::check_dots_empty()
  fit <- x$facts$fit
  marks <- x$rows[!is.na(x$rows$estimate), ]
  high <- min(1, max(1.6 * x$facts$robustness, 1.1 * marks$r2_outcome, 0.05, na.rm = TRUE))
  needed <- core_treatment_needed(fit$estimate / fit$se, fit$df, high)
  top <- min(0.95, max(1.4 * needed, 1.15 * marks$r2_treatment, na.rm = TRUE))
  grid <- expand.grid(r2_treatment = seq(0, top, length.out = 121), r2_outcome = seq(0, high, length.out = 121))
  at <- core_adjusted_estimate(fit$estimate, fit$se, fit$df, grid$r2_treatment, grid$r2_outcome, x$facts$towards,
                               fit$inflation)
  grid$estimate <- at$estimate
  side <- sign(fit$estimate)
  grid$left <- side * at$estimate - x$facts$critical * at$se
  grid$what <- factor(ifelse(side * at$estimate <= 0, "turned", ifelse(grid$left <= 0, "interval holds 0", "stands")),
                      levels = c("stands", "interval holds 0", "turned"))
  name <- if (is.null(x$facts$about$outcome)) "estimate" else sprintf("effect on %s", x$facts$about$outcome)
  lines <- contour_lines(grid, fit$estimate)
  ggplot2::ggplot(grid, ggplot2::aes(x = .data$r2_treatment, y = .data$r2_outcome)) +
    ggplot2::geom_raster(ggplot2::aes(fill = .data$what)) +
    ggplot2::scale_fill_manual(values = c(stands = "#EAF3F2", "interval holds 0" = "#F8EBCF", turned = "#E8C9B5"),
                               name = "conclusion", drop = FALSE) +
    (if (nrow(lines) > 0L) ggplot2::geom_contour(ggplot2::aes(z = .data$estimate), breaks = lines$at, colour = "grey55",
                                                 linewidth = 0.3)) +
    (if (any(grid$what == "turned")) ggplot2::geom_contour(ggplot2::aes(z = .data$estimate), breaks = 0,
                                                           colour = twin_mark, linewidth = 0.9)) +
    ggplot2::geom_text(data = lines, ggplot2::aes(label = .data$label), size = 3.2, colour = "grey30", hjust = 1.1,
                       vjust = -0.3) +
    ggplot2::geom_point(data = marks, shape = 21, size = 2.8, fill = twin_colours[["treated"]], colour = "white") +
    ggplot2::geom_text(data = spaced_marks(marks, top, high), ggplot2::aes(label = .data$label), hjust = -0.08,
                       vjust = -0.5, size = 3.3, colour = "grey15") +
    ggplot2::scale_x_continuous(labels = share_axis) +
    ggplot2::scale_y_continuous(labels = share_axis) +
    ggplot2::coord_cartesian(xlim = c(0, top), ylim = c(0, 1.03 * high), expand = FALSE) +
    ggplot2::labs(
      x = "share a hidden confounder explains of what is left of the treatment",
      y = "share of what is left of the outcome",
      title = sprintf("What would be left of the %s?", name), subtitle = subtitle_of(x),
      caption = paste("Lines: the estimate with such a confounder added; bold where it is 0. Points: confounders as",
                      "strong as covariates.")
    ) +
    theme_twin()
}

share_axis <- function(x) paste0(format(100 * x, trim = TRUE, digits = 3), "%")

# Where each line of equal estimates leaves the picture, with its value.
contour_lines <- function(grid, estimate) {
  at <- pretty(grid$estimate[is.finite(grid$estimate) & abs(grid$estimate) <= 2 * abs(estimate)], 8)
  last <- grid[grid$r2_treatment == max(grid$r2_treatment), ]
  inside <- at[at > min(last$estimate) & at < max(last$estimate)]
  y <- vapply(inside, function(value) last$r2_outcome[which.min(abs(last$estimate - value))], 0)
  shown <- c(TRUE, abs(diff(y)) > 0.05 * max(y))[seq_along(y)]
  data.frame(at = inside, r2_treatment = rep(max(last$r2_treatment), length(inside)), r2_outcome = y,
             label = ifelse(shown, format(inside, trim = TRUE), ""))
}

# Names for the points that lie apart from those already named; the strongest first.
spaced_marks <- function(marks, top, high) {
  marks <- marks[order(-marks$r2_treatment * marks$r2_outcome), ]
  keep <- logical(nrow(marks))
  for (k in seq_len(nrow(marks))) {
    near <- abs(marks$r2_treatment[keep] - marks$r2_treatment[k]) / top < 0.2 &
      abs(marks$r2_outcome[keep] - marks$r2_outcome[k]) / high < 0.05
    keep[k] <- !any(near)
  }
  marks <- marks[keep, ]
  marks$label <- sprintf("%s x %s", format(marks$times, trim = TRUE), marks$covariate)
  marks
}

# Coefficient stability
# ---------------------------------------------------------------------------------------------------

stability_table <- function(x, number = number_text) {
  rows <- x$rows
  out <- data.frame(`Maximal R2` = number(rows$r_max), delta = number(rows$delta_needed),
                    effect = number(rows$estimate), roots = count_text(rows$roots), check.names = FALSE)
  names(out)[2:3] <- c(sprintf("delta that makes it %s", format(x$facts$beta)),
                       sprintf("effect at delta %s", format(x$facts$delta)))
  out
}

stability_title <- function(x) {
  v <- x$facts$values
  sprintf("Coefficient stability: %s without covariates (R2 %s), %s with them (R2 %s)%s.", number_text(v[["short"]]),
          number_text(v[["short_r2"]], 3), number_text(v[["long"]]), number_text(v[["long_r2"]], 3),
          if (is.null(x$facts$about$outcome)) "" else
            sprintf("; linear regressions of %s, before the design", x$facts$about$outcome))
}

#' @export
format.twin_probe_stability <- function(x, ...) {
  rlang::check_dots_empty()
  several <- any(x$rows$roots > 1L)
  c(wrap_lines(stability_title(x)), table_lines(thin_rows(stability_table(x)), left = 0L), "",
    wrap_lines(probe_verdict(x)), if (several) wrap_lines(roots_sentence(x)))
}

roots_sentence <- function(x) {
  rows <- x$rows[x$rows$roots > 1L, ]
  sprintf(paste("Caution: the equation has several real roots; shown is the one nearest to the coefficient with",
                "covariates on the side they moved it to. At maximal R2 %s the others are %s."),
          number_text(rows$r_max[1L], 3), rows$others[1L])
}

#' @exportS3Method
probe_verdict.twin_probe_stability <- function(x) { # nolint: object_name_linter.
  usual <- x$facts$usual
  left <- sprintf(" At delta %s the effect would be %s.", format(x$facts$delta), number_text(usual$estimate))
  if (usual$delta_needed < 0) {
    return(paste0(sprintf(paste(
      "The covariates moved the coefficient away from %s, and unobserved ones that select the same way would move it",
      "farther; only selection the other way, %s times as strong, would bring it there (maximal R2 %s)."
    ), format(x$facts$beta), number_text(abs(usual$delta_needed), 2), number_text(usual$r_max, 2)), left))
  }
  paste0(sprintf(paste(
    "Unobserved confounders would have to select into treatment %s times as strongly as the observed ones to bring the",
    "effect to %s, if all together reached an R2 of %s."
  ), number_text(usual$delta_needed, 2), format(x$facts$beta), number_text(usual$r_max, 2)), left)
}

#' @export
plot.twin_probe_stability <- function(x, ...) {
  rlang::check_dots_empty()
  v <- x$facts$values
  rows <- rbind(data.frame(r_max = v[["long_r2"]], estimate = v[["long"]]), x$rows[c("r_max", "estimate")])
  points <- data.frame(r_max = c(v[["short_r2"]], v[["long_r2"]]), estimate = c(v[["short"]], v[["long"]]),
                       label = c("without covariates", "with covariates"))
  usual <- x$facts$usual
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$r_max, y = .data$estimate)) +
    no_effect_line() +
    ggplot2::annotate("segment", x = points$r_max[1L], y = points$estimate[1L], xend = points$r_max[2L],
                      yend = points$estimate[2L], colour = "grey60", linewidth = 0.5) +
    ggplot2::geom_line(colour = twin_colours[["treated"]], linewidth = 1, na.rm = TRUE) +
    ggplot2::geom_point(data = points, size = 3, colour = twin_colours[["treated"]]) +
    ggplot2::geom_text(data = points, ggplot2::aes(label = .data$label), vjust = -1, hjust = c(0, 1), size = 3.6) +
    ggplot2::annotate("point", x = usual$r_max, y = usual$estimate, size = 3.5, shape = 18, colour = twin_mark) +
    ggplot2::scale_y_continuous(expand = ggplot2::expansion(0.12)) +
    ggplot2::labs(x = "R2 of the regression, and beyond: maximal R2", y = sprintf("effect at delta %s",
                                                                                  format(x$facts$delta)),
                  title = "What would the unobserved do, if they did as the observed?", subtitle = subtitle_of(x),
                  caption = sprintf("Diamond: maximal R2 of %s, the smaller of 1 and 1.3 times that with covariates.",
                                    number_text(usual$r_max, 2))) +
    theme_twin()
}

# Placebos
# ----------------------------------------------------------------------------------------------------------------

placebo_table <- function(x, number = number_text) {
  rows <- x$rows
  out <- data.frame(Placebo = rows$placebo, Kind = rows$kind, Estimate = number(rows$estimate),
                    SE = number(rows$std.error), interval = interval_text(rows$conf.low, rows$conf.high),
                    p = p_text(rows$p.value), Units = count_text(rows$units))
  names(out)[5L] <- paste(level_text(x$facts$level), "interval")
  out
}

placebo_title <- function(x) {
  sprintf("Placebos: what %s seems to do where it can't (its effect on %s is %s)", x$facts$treatment, x$facts$outcome,
          number_text(x$facts$effect))
}

#' @export
format.twin_probe_placebo <- function(x, ...) {
  rlang::check_dots_empty()
  table <- placebo_table(x)
  table$Placebo <- shorten(table$Placebo, 26)
  c(wrap_lines(placebo_title(x)), "", table_lines(fit_table(table, c("Units", "SE")), left = 2L), "",
    wrap_lines(probe_verdict(x)))
}

#' @exportS3Method
probe_verdict.twin_probe_placebo <- function(x) { # nolint: object_name_linter.
  joint <- x$facts$joint
  p <- joint[["p.value"]]
  widest <- max(abs(c(x$rows$conf.low, x$rows$conf.high)))
  if (is.na(p)) {
    found <- sum(x$rows$p.value < 1 - x$facts$level)
    return(sprintf("%s of %s have p below %s one by one; they can't be tested together.", count_text(found),
                   plural(nrow(x$rows), "placebo"), format(1 - x$facts$level)))
  }
  if (p < 1 - x$facts$level) {
    worst <- x$rows[which.min(x$rows$p.value), ]
    return(sprintf(paste("There are effects where there should be none (joint p %s), most clearly %s with %s: the",
                         "design leaves bias."), p_phrase(p), worst$placebo, number_text(worst$estimate)))
  }
  sprintf(paste("No effect is found where there should be none (joint p %s), which is as reassuring as the intervals",
                "are short: they leave room for effects of up to %s in size."), p_phrase(p), number_text(widest))
}

#' @export
plot.twin_probe_placebo <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows
  if (length(unique(rows$kind)) > 1L) rows$placebo <- sprintf("%s (%s)", rows$placebo, rows$kind)
  rows$placebo <- factor(rows$placebo, levels = rev(unique(rows$placebo)))
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$estimate, y = .data$placebo)) +
    ggplot2::geom_vline(xintercept = 0, colour = "grey30", linewidth = 0.5) +
    ggplot2::geom_vline(xintercept = x$facts$effect, colour = twin_mark, linetype = "22", linewidth = 0.8) +
    ggplot2::geom_linerange(ggplot2::aes(xmin = .data$conf.low, xmax = .data$conf.high), linewidth = 1,
                            colour = "#9A6A12") +
    ggplot2::geom_point(shape = 21, size = 3.5, stroke = 1.1, fill = "white", colour = "#9A6A12") +
    ggplot2::labs(x = "estimate", y = NULL, title = "Effects where there should be none", subtitle = subtitle_of(x),
                  caption = sprintf("Dashed: the effect on %s, %s. Lines: %s intervals.", x$facts$outcome,
                                    number_text(x$facts$effect), level_text(x$facts$level))) +
    theme_twin()
}

# Choices
# -----------------------------------------------------------------------------------------------------------------

choices_table <- function(x, number = number_text) {
  rows <- x$rows
  fine <- is.na(rows$failed)
  out <- data.frame(
    Run = rows$changed, Effect = number(rows$estimate),
    interval = ifelse(fine, interval_text(rows$conf.low, rows$conf.high), "-"),
    balance = ifelse(fine, sprintf("%d of %d", rows$passing, rows$rows), "-"), worst = number(rows$worst_smd),
    treated = ifelse(fine, count_text(rows$n_treated), "-"),
    pass = ifelse(!fine, "failed", ifelse(rows$pass, "yes", "no"))
  )
  names(out) <- c("Run", "Effect", paste(level_text(x$facts$level), "interval"), "rows balanced", "worst |SMD|",
                  "treated", "passes")
  out
}

choices_title <- function(x) sprintf("Other choices: effect on %s, %s, run anew", x$facts$outcome, x$facts$design)

#' @export
format.twin_probe_choices <- function(x, ...) {
  rlang::check_dots_empty()
  table <- choices_table(x)
  table$Run <- shorten(table$Run, 38)
  shown <- utils::head(table, 20L)
  failed <- x$rows[!is.na(x$rows$failed), ]
  c(wrap_lines(choices_title(x)), "", table_lines(fit_table(shown, c("treated", "worst |SMD|", "rows balanced"))),
    if (nrow(table) > 20L) sprintf("  and %s more runs; tidy() has them all", count_text(nrow(table) - 20L)), "",
    wrap_lines(probe_verdict(x)),
    if (nrow(failed) > 0L) wrap_lines(sprintf("Could not be run: %s (%s).", failed$changed[1L], failed$failed[1L])))
}

#' @exportS3Method
probe_verdict.twin_probe_choices <- function(x) { # nolint: object_name_linter.
  g <- generics::glance(x)
  made <- g$runs - g$failed
  all <- sprintf("over all %s %s", plural(made, "run"), interval_text(g$least_all, g$greatest_all))
  if (g$passing == 0L) {
    return(sprintf("None of %s passes the limits of balance, the design as it was included; effects range %s.",
                   plural(made, "run"), all))
  }
  clear <- if (g$significant == 1) "all of their intervals exclude 0" else
    sprintf("%s of their intervals exclude 0", share_text(g$significant))
  sprintf("%s of %s pass the limits of balance; their effects range from %s, and %s (%s).", count_text(g$passing),
          plural(made, "run"), interval_text(g$least, g$greatest), clear, all)
}

#' @export
plot.twin_probe_choices <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows[is.na(x$rows$failed), ]
  rows <- rows[order(rows$estimate), ]
  rows$place <- seq_len(nrow(rows))
  marks <- choice_marks(rows, x$facts)
  # both parts share one vertical scale per panel: choices stand far beyond any effect, so their axis knows them
  far <- 100 * (1 + max(abs(c(rows$conf.low, rows$conf.high))))
  levels <- unique(marks$label)
  marks$y <- far * (1 + (length(levels) - match(marks$label, levels)) / 100)
  rows$panel <- factor("effect", levels = c("effect", "choices"))
  marks$panel <- factor("choices", levels = c("effect", "choices"))
  heights <- far * (1 + (length(levels) - seq_along(levels)) / 100)
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$place)) +
    ggplot2::geom_hline(data = data.frame(panel = rows$panel[1L]), ggplot2::aes(yintercept = 0), colour = "grey30",
                        linewidth = 0.5) +
    ggplot2::geom_linerange(ggplot2::aes(ymin = .data$conf.low, ymax = .data$conf.high), colour = "grey65",
                            linewidth = 0.6) +
    ggplot2::geom_point(ggplot2::aes(y = .data$estimate, fill = .data$pass), shape = 21, size = 2.6,
                        colour = twin_colours[["treated"]], stroke = 1) +
    ggplot2::geom_point(data = marks, ggplot2::aes(y = .data$y), shape = 15, size = 2, colour = "grey30") +
    ggplot2::geom_point(data = rows[rows$run == 1L, ], ggplot2::aes(y = .data$estimate), shape = 1, size = 5.5,
                        colour = twin_mark, stroke = 1) +
    ggplot2::scale_fill_manual(values = c("TRUE" = twin_colours[["treated"]], "FALSE" = "white"),
                               labels = c("TRUE" = "passes the limits of balance", "FALSE" = "does not"), name = NULL) +
    ggplot2::scale_y_continuous(
      breaks = function(limits) if (max(limits) > far / 2) heights else pretty(limits, 5),
      labels = function(at) if (any(at > far / 2, na.rm = TRUE)) levels[match(at, heights)] else format(at, trim = TRUE)
    ) +
    ggplot2::facet_grid(stats::as.formula("panel ~ ."), scales = "free_y") +
    ggplot2::scale_x_continuous(breaks = NULL) +
    ggplot2::labs(x = sprintf("%s, sorted by effect", plural(nrow(rows), "run")), y = NULL,
                  title = "What if the design had been another?", subtitle = subtitle_of(x),
                  caption = sprintf("Lines: %s intervals of the effect on %s. Ringed: the design as it was.",
                                    level_text(x$facts$level), x$facts$outcome)) +
    theme_twin() + ggplot2::theme(strip.text = ggplot2::element_blank())
}

# One mark per run and choice, for the choices that vary. Single clusters left out share a line.
choice_marks <- function(rows, facts) {
  parts <- lapply(names(facts$base), function(name) {
    data.frame(place = rows$place, label = sprintf("%s: %s", name, rows[[name]]))
  })
  left <- rows[!is.na(rows$without), ]
  if (nrow(left) > 0L) {
    labels <- paste("without", left$without)
    if ("clusters" %in% facts$choices) {
      labels[!left$without %in% facts$covariates] <- sprintf("without one %s", facts$cluster)
    }
    parts <- c(parts, list(data.frame(place = left$place, label = labels)))
  }
  out <- do.call(rbind, parts)
  out[order(match(out$label, sort(unique(out$label)))), ]
}

# All probes on one scale
# -------------------------------------------------------------------------------------------------

probe_words <- c(pairs = "Pairs", weights = "Weights", omitted = "Omitted variable", ratio = "Ratio",
                 trends = "Trends not parallel")

times_text <- function(x) ifelse(is.na(x), "-", ifelse(is.infinite(x), "none can", paste(number_text(x, 2), "x")))

scale_table <- function(x, number = number_text) {
  rows <- x$rows
  out <- data.frame(Probe = unname(probe_words[rows$probe]),
                    `to no effect` = number(rows$needed), `interval onto it` = number(rows$needed_interval),
                    yardstick = sprintf("%s (%s)", rows$yardstick, number(rows$yardstick_value)),
                    times = times_text(rows$times), `interval` = times_text(rows$times_interval), check.names = FALSE)
  names(out)[4:6] <- c("strongest measured", "as strong", "interval")
  out
}

scale_title <- function(x) {
  sprintf("Hidden bias, every way that fits: effect on %s, %s", x$facts$outcome, x$facts$design)
}

#' @export
format.twin_probe_effect <- function(x, ...) {
  rlang::check_dots_empty()
  table <- scale_table(x)
  measures <- sprintf("%s: %s.", unname(probe_words[x$rows$probe]), x$rows$measure)
  c(wrap_lines(scale_title(x)), "", table_lines(fit_table(table, c("interval onto it", "to no effect"))), "",
    wrap_lines(probe_verdict(x)), "", paste0("  ", measures), "",
    wrap_lines("The single probes stand in $probes, each with its own table and plot."))
}

#' @exportS3Method
probe_verdict.twin_probe_effect <- function(x) { # nolint: object_name_linter.
  if (x$facts$holds) {
    return("Even without hidden bias the interval holds no effect: there is no conclusion to overturn.")
  }
  rows <- x$rows[!is.na(x$rows$times), ]
  if (nrow(rows) == 0L) return("No measured covariate gives a yardstick; read the single probes.")
  least <- rows[which.min(rows$times), ]
  if (is.infinite(least$times)) return("No multiple of any measured covariate would explain the effect away.")
  if (least$probe == "trends") {
    return(sprintf(paste("A drift between both sides %s times as large per period as the worst before treatment would",
                         "explain the estimate away, and one %s times as large move the interval onto no effect."),
                   number_text(least$times, 2), number_text(least$times_interval, 2)))
  }
  sprintf(paste("A hidden confounder %s times as strong as %s, the strongest measured one, would explain the estimate",
                "away%s: the weakest answer of %s (%s)."), number_text(least$times, 2), least$yardstick,
          if (is.na(least$times_interval)) "" else
            sprintf(", and one %s times as strong move the interval onto no effect",
                    number_text(least$times_interval, 2)),
          plural(nrow(x$rows), "probe"), tolower(probe_words[[least$probe]]))
}

#' @export
plot.twin_probe_effect <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows[!is.na(x$rows$times), ]
  rows$label <- sprintf("%s\n(%s)", probe_words[rows$probe], rows$yardstick)
  rows$label <- factor(rows$label, levels = rev(rows$label))
  most <- max(c(rows$times[is.finite(rows$times)], 2))
  ends <- rbind(data.frame(label = rows$label, times = rows$times, what = "estimate to no effect"),
                data.frame(label = rows$label, times = rows$times_interval, what = "interval onto no effect"))
  ends <- ends[!is.na(ends$times), ]
  ends$text <- times_text(ends$times)
  ends$shown <- pmin(pmax(ends$times, 0.05), 1.5 * most)
  ggplot2::ggplot(ends, ggplot2::aes(x = .data$shown, y = .data$label)) +
    ggplot2::geom_vline(xintercept = 1, colour = "grey30", linewidth = 0.5) +
    ggplot2::geom_line(ggplot2::aes(group = .data$label), colour = "grey65", linewidth = 0.8) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$what), shape = 21, size = 4, stroke = 1.1,
                        colour = twin_colours[["treated"]]) +
    ggplot2::geom_text(ggplot2::aes(label = .data$text,
                                    vjust = ifelse(.data$what == "estimate to no effect", -1.1, 2.1)), size = 3.5) +
    ggplot2::scale_fill_manual(values = c("estimate to no effect" = twin_colours[["treated"]],
                                          "interval onto no effect" = "white"), name = NULL) +
    ggplot2::scale_x_log10(labels = function(at) paste0(format(at, trim = TRUE, drop0trailing = TRUE), "x"),
                           expand = ggplot2::expansion(0.08)) +
    ggplot2::labs(x = "times as strong as the strongest measured covariate (in parentheses)", y = NULL,
                  title = "How strong would a hidden confounder have to be?", subtitle = subtitle_of(x),
                  caption = "Left of the line a confounder weaker than one that was measured would do.") +
    theme_twin()
}

# Power
# -------------------------------------------------------------------------------------------------------------------

power_table <- function(x, number = number_text) {
  rows <- x$rows
  out <- data.frame(Power = share_axis(rows$power), detectable = number(rows$detectable),
                    standardized = number(rows$standardized), sensitivity = number_text(rows$design_sensitivity, 2))
  names(out) <- c("Power", "smallest effect found", "in standard deviations", "design sensitivity")
  if (all(is.na(rows$design_sensitivity))) out <- out[1:3]
  if (length(unique(rows$level)) == 1L) return(out)
  cbind(out[1L], `at level` = format(1 - rows$level), out[-1L])
}

power_lines <- function(x) {
  effective <- count_text(round(x$sizes))
  size <- if (is.na(x$pairs)) sprintf("effective %s treated, %s control", effective[1L], effective[2L]) else
    plural(x$pairs, if (x$kind == "pairs") "pair" else "set")
  where <- if (is.na(x$clusters)) "" else sprintf("; %s of %s, correlation within them %s",
                                                  plural(x$clusters, "cluster"), x$cluster_name, number_text(x$share))
  from <- if (is.na(x$outcome)) "as stated" else
    sprintf("of the controls' %s; the treated were not looked at", x$outcome)
  levels <- paste(format(1 - unique(x$rows$level), trim = TRUE), collapse = ", ")
  c(sprintf("What this design could detect at level %s: %s; %s%s.", levels, x$design, size, where),
    sprintf("Standard deviation %s (%s).", number_text(x$sd), from))
}

power_note <- function(x) {
  rows <- x$rows[!is.na(x$rows$design_sensitivity), ]
  if (nrow(rows) == 0L) return("The design has neither pairs nor weights yet, so nothing is said of hidden bias.")
  sprintf(paste("Were the true effect that of the first row, hidden bias beyond %s %s would hide it however many units",
                "there were."), if (x$kind %in% c("pairs", "sets")) "gamma" else "lambda",
          number_text(rows$design_sensitivity[1L], 2))
}

#' @export
format.twin_power <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(power_lines(x)), "", table_lines(power_table(x), left = 0L), "", wrap_lines(power_note(x)))
}

#' @export
print.twin_power <- function(x, ...) print_lines(x, format(x, ...))

#' @export
plot.twin_power <- function(x, ...) {
  rlang::check_dots_empty()
  curve <- do.call(rbind, lapply(unique(x$rows$level), function(level) {
    power <- seq(max(0.06, 1.2 * (1 - level)), 0.99, by = 0.01)
    data.frame(power = power, effect = core_detectable_factor(power, level, x$df) * x$rows$std.error[1L], level = level)
  }))
  ggplot2::ggplot(curve, ggplot2::aes(x = .data$effect, y = .data$power)) +
    ggplot2::geom_line(ggplot2::aes(group = .data$level), colour = twin_colours[["treated"]], linewidth = 1) +
    ggplot2::geom_segment(data = x$rows, ggplot2::aes(x = .data$detectable, xend = .data$detectable, y = 0,
                                                      yend = .data$power), linetype = "22", colour = twin_mark) +
    ggplot2::geom_point(data = x$rows, ggplot2::aes(x = .data$detectable), size = 3, colour = twin_mark) +
    ggplot2::geom_text(data = x$rows, ggplot2::aes(x = .data$detectable, label = number_text(.data$detectable)),
                       hjust = -0.25, vjust = 1.2, size = 3.6) +
    ggplot2::scale_y_continuous(labels = share_axis, limits = c(0, 1), expand = c(0, 0)) +
    ggplot2::labs(x = if (is.na(x$outcome)) "true effect" else sprintf("true effect on %s", x$outcome),
                  y = "chance to find it", title = "What could this design detect?",
                  subtitle = wrapped_lines(paste(power_lines(x), collapse = " "), 95),
                  caption = wrapped_lines(power_note(x), 110)) +
    theme_twin()
}

# Tables for papers and reports
# --------------------------------------------------------------------------------------------

#' @exportS3Method
table_parts.twin_probe_weights <- function(x, number = number_text) { # nolint: object_name_linter.
  plain_parts(weights_table(x, number), "Lambda", weights_title(x), probe_verdict(x))
}

#' @exportS3Method
table_parts.twin_probe_omitted <- function(x, number = number_text) { # nolint: object_name_linter.
  if (nrow(x$rows) == 0L) {
    facts <- x$facts
    table <- data.frame(Quantity = c("partial R2 with the outcome", "robustness value", "of its interval"),
                        value = number(c(facts$r2, facts$robustness, facts$robustness_interval)))
    return(plain_parts(table, "Quantity", omitted_title(x), probe_verdict(x)))
  }
  plain_parts(omitted_table(x, number), "As strong as", omitted_title(x), paste(probe_verdict(x), scenario_sentence(x)))
}

#' @exportS3Method
table_parts.twin_probe_stability <- function(x, number = number_text) { # nolint: object_name_linter.
  plain_parts(stability_table(x, number), "Maximal R2", stability_title(x), probe_verdict(x))
}

#' @exportS3Method
table_parts.twin_probe_placebo <- function(x, number = number_text) { # nolint: object_name_linter.
  plain_parts(placebo_table(x, number), "Placebo", placebo_title(x), probe_verdict(x))
}

#' @exportS3Method
table_parts.twin_probe_choices <- function(x, number = number_text) { # nolint: object_name_linter.
  plain_parts(choices_table(x, number), "Run", choices_title(x), probe_verdict(x))
}

#' @exportS3Method
table_parts.twin_probe_effect <- function(x, number = number_text) { # nolint: object_name_linter.
  plain_parts(scale_table(x, number), "Probe", scale_title(x), probe_verdict(x))
}

#' @exportS3Method
table_parts.twin_power <- function(x, number = number_text) { # nolint: object_name_linter.
  plain_parts(power_table(x, number), "Power", paste(power_lines(x), collapse = " "), power_note(x))
}
