# How probes of regressions look: the omitted variable and coefficient stability.

omitted_table <- function(x, number = column_text) {
  rows <- x$rows
  impossible <- is.na(rows$r2_treatment)
  out <- data.frame(
    `As strong as` = paste(format(rows$times, trim = TRUE), "x", rows$covariate),
    treatment = ifelse(impossible, "-", share_text(rows$r2_treatment, number)),
    outcome = ifelse(impossible, "-", share_text(rows$r2_outcome, number)), effect = number(rows$estimate),
    interval = ifelse(impossible | explains_all(rows), "-", interval_text(rows$conf.low, rows$conf.high, number)),
    check.names = FALSE
  )
  names(out) <- c("As strong as", "explains of treatment", "of outcome", "effect then",
                  paste(level_text(x$facts$level), "interval"))
  out
}

# Where nothing of the outcome would be left, nothing is left to tell an error by.
explains_all <- function(rows) !is.na(rows$r2_outcome) & rows$r2_outcome > 1 - 1e-9

omitted_title <- function(x) {
  about <- x$facts$about
  fit <- x$facts$fit
  if (!is.null(about$bare)) {
    return(sprintf("Omitted variable: %s %s with %s degrees of freedom", if (about$bare == "t") "t statistic" else
      "coefficient", number_text(fit$estimate), format(fit$df, big.mark = ",")))
  }
  sprintf(paste("Omitted variable: linear regression of %s on the treatment and covariates, %s: coefficient %s,",
                "standard error %s (%s). The effect measured by %s is %s."), about$outcome, about$design,
          number_text(fit$estimate), number_text(fit$se * fit$inflation), about$by, estimators[[about$estimator]]$words,
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
    "  - no confounder can be that strong", if (any(explains_all(x$rows))) wrap_lines(paste(
      "Multiples that would explain all that is left of the outcome have no interval: nothing is left to tell an error",
      "by."), 2L)), "", wrap_lines(probe_verdict(x)), wrap_lines(scenario_sentence(x)))
}

#' @exportS3Method
probe_verdict.twin_probe_omitted <- function(x) { # nolint: object_name_linter.
  facts <- x$facts
  first <- sprintf(paste("A confounder that explains %s of what the covariates leave both of the treatment and of the",
                         "outcome would bring the estimate to 0"), share_text(facts$robustness))
  if (facts$robustness_interval == 0) {
    return(paste0(first, "; its interval includes 0 as it is: there is no conclusion to overturn."))
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
    twin_look()
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

stability_table <- function(x, number = column_text) {
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
                "covariates on the side they moved it to. At maximal R2 %s the %s %s."),
          number_text(rows$r_max[1L], 3), if (rows$roots[1L] == 2L) "other is" else "others are", rows$others[1L])
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
    twin_look()
}

#' @exportS3Method
table_parts.twin_probe_omitted <- function(x, number = column_text) { # nolint: object_name_linter.
  if (nrow(x$rows) == 0L) {
    facts <- x$facts
    table <- data.frame(Quantity = c("partial R2 with the outcome", "robustness value", "of its interval"),
                        value = number(c(facts$r2, facts$robustness, facts$robustness_interval)))
    return(plain_parts(table, "Quantity", omitted_title(x), probe_verdict(x)))
  }
  plain_parts(omitted_table(x, number), "As strong as", omitted_title(x), paste(probe_verdict(x), scenario_sentence(x)))
}

#' @exportS3Method
table_parts.twin_probe_stability <- function(x, number = column_text) { # nolint: object_name_linter.
  plain_parts(stability_table(x, number), "Maximal R2", stability_title(x), probe_verdict(x))
}

#' @exportS3Method
further_table.twin_probe_omitted <- function(x) { # nolint: object_name_linter. An S3 method.
  list(title = "At worst", table = scenario_table(x))
}
