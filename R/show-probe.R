#' @export
format.twin_probe_pairs <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows
  table <- data.frame(
    Gamma = format(rows$gamma), least = p_text(rows$p_low), greatest = p_text(rows$p_high),
    estimate = interval_text(rows$estimate_low, rows$estimate_high),
    interval = interval_text(rows$conf_low, rows$conf_high)
  )
  names(table) <- c("Gamma", "least p", "greatest p", "shift estimate", paste(level_text(x$facts$level), "limits"))
  if (!has_shifts(x)) table <- table[1:3]
  c(
    wrap_lines(sprintf("Hidden bias in %s: %s", if (x$facts$form == "sets") "sets" else "pairs", test_text(x$facts))),
    table_lines(with_turns(thin_rows(table), x$facts$gamma_change, "greatest p", format(1 - x$facts$level)), left = 0L),
    "",
    wrap_lines(probe_verdict(x)),
    wrap_lines(amplification_sentence(x)),
    wrap_lines(reuse_sentence(x$facts)),
    wrap_lines(own_test_sentence(x))
  )
}

has_shifts <- function(x) x$facts$form %in% c("signed_rank", "sets")

# The gamma of change as a confounder of two strengths.
amplification_sentence <- function(x) {
  rows <- x$parts$amplification
  if (is.null(rows)) return(character())
  equal <- rows[which.min(abs(rows$treatment - rows$outcome)), ]
  other <- rows[which.max(rows$outcome), ]
  sprintf(paste("The same as a confounder that multiplies the odds of treatment by %s and those of a %s difference by",
                "%s, or by %s and %s."), number_text(equal$treatment, 2), side_word(x), number_text(equal$outcome, 2),
          number_text(other$treatment, 2), number_text(other$outcome, 1))
}

# The sign of the differences that the test is about.
side_word <- function(x) if (identical(x$facts$side, "less")) "negative" else "positive"

amplification_table <- function(x) {
  rows <- x$parts$amplification
  if (is.null(rows)) return(NULL)
  out <- data.frame(number_text(rows$treatment, 2), number_text(rows$outcome, 2))
  stats::setNames(out, c("times the odds of treatment", sprintf("times the odds of a %s difference", side_word(x))))
}

# What the test does not count, where partners are shared; how a sample was paired.
reuse_sentence <- function(facts) {
  reuse <- facts$reuse
  if (!is.null(facts$paired)) return(sprintf("The sample has no pairs; it was paired here by the %s.", facts$paired))
  if (is.null(reuse)) return(character())
  told <- sprintf("Each difference is that of a unit and the mean of its matches. Of %s, %s in several differences",
                  plural(reuse[["partners"]], "partner"),
                  if (reuse[["shared"]] == 0) "none serves" else if (reuse[["shared"]] == 1) "1 serves" else
                    paste(count_text(reuse[["shared"]]), "serve"))
  if (reuse[["shared"]] == 0) return(paste0(told, "."))
  sprintf(paste0("%s, the busiest in %s. Differences that share a partner are dependent, and the test takes them as",
                 " independent: its p-values are too small, the more so the more are shared."),
          told, count_text(reuse[["most"]]))
}

# The effect's own test and this one answer different questions.
own_test_sentence <- function(x) {
  effect <- x$facts$effect
  if (is.null(effect)) return(character())
  own <- sprintf("Without hidden bias the one-sided p-value is %s here and %s by the effect's own test",
                 p_text(x$facts$p_at_one), p_text(effect$p_value))
  sprintf(paste("%s: that one asks about the mean (%s), this one %s."), own, number_text(effect$estimate),
          if (has_shifts(x)) "about a shift common to all, by ranks" else "whether either side of a pair is likelier")
}

# Printing keeps to one screen: at most a dozen rows, in even steps, the first and last among them.
thin_rows <- function(table, most = 12L) {
  size <- nrow(table)
  table[unique(c(seq(1L, size, by = ceiling((size - 1) / (most - 1))), size)), ]
}

# The values at which a verdict turns, as rows of their own among those of the first column. column, says: what stands
# there, one each; values that are not finite have none.
with_turns <- function(table, turns, columns, says) {
  known <- is.finite(turns) & turns > 0
  if (!any(known)) return(table)
  blank <- table[rep(1L, sum(known)), , drop = FALSE]
  blank[] <- ""
  blank[[1L]] <- formatC(turns[known], digits = 2, format = "f")
  for (k in seq_len(nrow(blank))) blank[[columns[known][k]]][k] <- says[known][k]
  both <- rbind(table, blank)
  both[order(as.numeric(gsub(",", "", both[[1L]], fixed = TRUE))), , drop = FALSE]
}

test_text <- function(facts) {
  what <- if (facts$form == "sets") "set" else "pair"
  dropped <- if (what == "pair") {
    sprintf(" of which %s drop%s out%s", if (facts$zeros == 1L) "1 is 0 and" else
      paste(count_text(facts$zeros), "are 0 and"), if (facts$zeros == 1L) "s" else "",
      if (facts$form != "signed_rank") "" else if (facts$zeros_ranked) " after ranking" else " before ranking")
  } else {
    sprintf(" (%s more hold equal outcomes and drop out)", count_text(facts$zeros))
  }
  sprintf("%s, %s%s, one-sided (%s%s)",
          c(mcnemar = if (facts$exact) "exact McNemar's test" else "McNemar's test",
            sign = if (facts$exact) "exact sign test" else "sign test", signed_rank = if (facts$exact)
            "exact signed-rank test" else "signed-rank test", sets = "aligned-rank test")[[facts$form]],
          plural(facts$pairs, what), if (facts$zeros > 0L) dropped else "",
          if (facts$side == "greater") "treated higher" else "treated lower",
          if (facts$side_chosen == "observed") ", as observed" else "")
}

#' @export
print.twin_probe <- function(x, ...) print_lines(x, format(x, ...))

# One sentence in plain words.
probe_verdict <- function(x) UseMethod("probe_verdict")

# list(title, table) of what the report shows beside the numbers; NULL where there is nothing more.
further_table <- function(x) UseMethod("further_table")

#' @exportS3Method
further_table.twin_probe <- function(x) NULL # nolint: object_name_linter. An S3 method.

#' @exportS3Method
further_table.twin_probe_pairs <- function(x) { # nolint: object_name_linter. An S3 method.
  list(title = "As a confounder of two strengths", table = amplification_table(x))
}

#' @exportS3Method
further_table.twin_probe_ratio <- function(x) { # nolint: object_name_linter. An S3 method.
  list(title = "Without each covariate", table = ratio_yardstick(x))
}

#' @exportS3Method
probe_verdict.twin_probe_pairs <- function(x) {
  change <- x$facts$gamma_change
  alpha <- format(1 - x$facts$level)
  if (is.na(change)) {
    return(sprintf(paste("Even without hidden bias the one-sided p-value is above %s: there is no conclusion to",
                         "overturn."), alpha))
  }
  if (is.infinite(change)) return("No hidden bias of any plausible size would change the conclusion.")
  sprintf(paste(
    "The conclusion changes at gamma %s: a hidden confounder would have to multiply the odds of treatment within a",
    "%s by that much, and predict the outcome almost perfectly, to lift the p-value above %s."
  ), formatC(change, digits = 2, format = "f"), if (x$facts$form == "sets") "set" else "pair", alpha)
}

#' @exportS3Method
probe_verdict.twin_probe_ratio <- function(x) {
  limit <- if (nrow(x$rows) > 1L) x$rows$e_value[2L]
  paste0(
    sprintf(paste("A hidden confounder would have to be tied to both treatment and outcome by risk ratios of %s each,",
                  "beyond the measured covariates, to explain the estimate away"), number_text(x$rows$e_value[1L])),
    if (is.null(limit)) "." else if (limit == 1) "; its interval includes no effect as it is." else
      sprintf("; by %s each to move the interval onto no effect.", number_text(limit))
  )
}

scale_words <- c(risk_ratio = "risk ratio", odds_ratio = "odds ratio", hazard_ratio = "hazard ratio",
                 mean_difference = "difference in standard deviations")

#' @export
format.twin_probe_ratio <- function(x, ...) {
  table <- data.frame(Quantity = x$rows$quantity, value = column_text(x$rows$value),
                      ratio = column_text(x$rows$risk_ratio), e_value = column_text(x$rows$e_value))
  names(table) <- c("Quantity", scale_words[[x$facts$scale]], "as risk ratio", "E-value")
  c("Hidden bias on the ratio scale", table_lines(table), yardstick_lines(ratio_yardstick(x)), "",
    wrap_lines(probe_verdict(x)), wrap_lines(ratio_comparison(x)))
}

# The E-value of what leaving out each covariate does.
ratio_yardstick <- function(x) {
  rows <- x$parts$covariates
  if (is.null(rows)) return(NULL)
  data.frame(`Left out` = rows$covariate, `as risk ratio` = number_text(rows$risk_ratio),
             `E-value of the move` = number_text(rows$e_value), `of the limit's` = number_text(rows$e_value_limit),
             check.names = FALSE)
}

ratio_comparison <- function(x) {
  rows <- x$parts$covariates
  if (is.null(rows)) return(character())
  sprintf("For comparison: leaving out %s, the measured covariate that matters most, needs %s.", rows$covariate[1L],
          number_text(rows$e_value[1L]))
}

# At most eight covariates, the strongest first.
yardstick_lines <- function(table) {
  if (is.null(table)) return(character())
  more <- nrow(table) - 8L
  c("", table_lines(fit_table(utils::head(table, 8L), character())),
    if (more > 0L) sprintf("  and %s weaker", count_text(more)))
}

#' @export
plot.twin_probe_pairs <- function(x, ...) {
  rlang::check_dots_empty()
  base <- ggplot2::ggplot(x$rows, ggplot2::aes(x = .data$gamma)) + twin_look()
  change <- if (is.finite(x$facts$gamma_change)) change_layers(x$facts$gamma_change)
  labels <- ggplot2::labs(
    x = "gamma: hidden bias as odds of treatment within a pair", title = "How much hidden bias would it take?",
    subtitle = subtitle_of(x)
  )
  if (!has_shifts(x)) {
    return(base + ggplot2::geom_line(ggplot2::aes(y = .data$p_high), linewidth = 1,
                                     colour = twin_colours[["treated"]]) +
             ggplot2::geom_hline(yintercept = 1 - x$facts$level, colour = "grey45", linetype = "22") +
             change + labels + ggplot2::labs(y = "greatest one-sided p-value"))
  }
  base +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$conf_low, ymax = .data$conf_high), fill = "#DCEBEA") +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$estimate_low, ymax = .data$estimate_high),
                         fill = twin_colours[["treated"]]) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey30", linewidth = 0.5) +
    change + labels +
    ggplot2::labs(
      y = paste("shift in", if (is.null(x$facts$effect)) "the outcome" else x$facts$effect$outcome),
      caption = sprintf(paste("Dark: range of estimates. Light: two-sided %s interval around it. The conclusion is",
                              "judged by the one-sided p-value."), level_text(x$facts$level))
    )
}

change_layers <- function(gamma) {
  list(
    ggplot2::geom_vline(xintercept = gamma, linetype = "22", colour = twin_mark, linewidth = 0.8),
    ggplot2::annotate("text", x = gamma, y = Inf, vjust = 1.5, hjust = -0.04, size = 3.6, colour = twin_mark,
                      label = sprintf("changes at %s", number_text(gamma, if (gamma < 0.1) 3 else 2))),
    ggplot2::expand_limits(x = gamma * 1.25)
  )
}

#' @export
plot.twin_probe_ratio <- function(x, ...) {
  rlang::check_dots_empty()
  curves <- do.call(rbind, lapply(seq_len(nrow(x$rows)), function(k) {
    explain_curve(x$rows$risk_ratio[k], x$rows$quantity[k], x$rows$e_value[k])
  }))
  marks <- x$rows[x$rows$e_value > 1, ]
  ggplot2::ggplot(curves, ggplot2::aes(x = .data$with_treatment, y = .data$with_outcome,
                                       linetype = .data$quantity)) +
    ggplot2::geom_line(colour = twin_colours[["treated"]], linewidth = 1) +
    ggplot2::geom_point(data = marks, ggplot2::aes(x = .data$e_value, y = .data$e_value), size = 3, inherit.aes = FALSE,
                        colour = twin_mark) +
    ggplot2::geom_text(data = marks, ggplot2::aes(x = .data$e_value, y = .data$e_value, label = sprintf(
      "  E = %.2f (%s)", .data$e_value, .data$quantity)), hjust = 0, vjust = -0.4, size = 3.6, inherit.aes = FALSE,
      colour = twin_mark) +
    ggplot2::scale_linetype_discrete(labels = function(of) paste("to explain away the", of)) +
    ggplot2::labs(x = "confounder and treatment: risk ratio", y = "confounder and outcome: risk ratio",
                  linetype = NULL, title = "How strong would a hidden confounder have to be?",
                  subtitle = subtitle_of(x)) +
    twin_look()
}

# Pairs of strengths whose bounding factor a b / (a + b - 1) equals the ratio (VanderWeele & Ding 2017).
explain_curve <- function(ratio, quantity, e_value) {
  ratio <- max(ratio, 1 / ratio)
  if (e_value <= 1 || ratio <= 1) return(NULL)
  a <- exp(seq(log(ratio * 1.03), log(e_value * 2.5), length.out = 200))
  b <- ratio * (a - 1) / (a - ratio)
  inside <- b <= e_value * 2.5
  data.frame(with_treatment = a[inside], with_outcome = b[inside], quantity = quantity)
}

#' @export
format.twin_probe_trends <- function(x, ...) {
  rlang::check_dots_empty()
  table <- data.frame(m = column_text(x$rows$m), interval = interval_text(x$rows$conf.low, x$rows$conf.high),
                      holds = ifelse(x$rows$conf.low <= 0 & x$rows$conf.high >= 0, "holds 0", ""))
  table$holds[which(x$rows$refuted)] <- paste0(table$holds[which(x$rows$refuted)], " (refuted)")
  table$holds <- trimws(table$holds)
  names(table) <- c("m", paste(level_text(x$facts$level), "interval"), " ")
  table <- with_turns(thin_rows(table), x$facts$change, names(table)[2L], "reaches 0")
  c(wrap_lines(trends_title(x)), table_lines(table, left = 0L), "", wrap_lines(probe_verdict(x)))
}

trends_title <- function(x) {
  facts <- x$facts
  what <- c(magnitude = "drift per period at most m times the worst before treatment",
            curvature = "change of the drift's slope at most m per period")[[facts$violation]]
  which <- if (is.null(facts$contrast)) {
    sprintf("averaged over %s since treatment%s", plural(length(facts$at), "period"),
            if (facts$weighing == "size") ", by their share of what is treated (taken as given)" else "")
  } else {
    paste(sprintf("%s times event %d", number_text(facts$contrast), as.integer(facts$at)), collapse = " + ")
  }
  sprintf("Trends not parallel: effect of %s on %s, %s; %s.", facts$treatment, facts$outcome, which, what)
}

trend_interval_words <- function(facts) {
  if (facts$interval == "direct") return("intervals")
  c(magnitude = "conditional intervals", curvature = "intervals of fixed length")[[facts$violation]]
}

#' @exportS3Method
probe_verdict.twin_probe_trends <- function(x) c(trends_conclusion(x), refuted_sentence(x))

# Bounds on the change of slope that the time before treatment itself breaks.
refuted_sentence <- function(x) {
  least <- x$facts$least
  if (is.null(least) || least <= 0) return(NULL)
  sprintf(paste("Before treatment the slope changed by at least %s per period (level %s, all periods together):",
                "smaller m are refuted by the data, and their intervals rest on what is known to be wrong."),
          number_text(least),
          level_text(x$facts$level))
}

trends_conclusion <- function(x) {
  change <- x$facts$change
  if (change == 0) {
    return(if (x$facts$violation == "magnitude")
      "Even with parallel trends the interval holds 0: there is no conclusion to overturn." else
        "Once a straight drift is allowed for the interval holds 0: there is no conclusion to overturn.")
  }
  if (is.infinite(change)) return("No violation of any plausible size would change the conclusion.")
  if (x$facts$violation == "magnitude") {
    return(sprintf(paste("The conclusion changes at m %s: both sides would have to drift apart in every period since",
                         "treatment by %s times the largest step seen before it (%s)."),
                   number_text(change, 2), number_text(change, 2), number_text(x$facts$worst)))
  }
  sprintf(paste("The conclusion changes at m %s: the slope of the drift would have to change by that much in every",
                "period since treatment."), number_text(change))
}

#' @export
plot.twin_probe_trends <- function(x, view = c("bounds", "path"), ...) {
  rlang::check_dots_empty()
  if (check_choice(view, c("bounds", "path")) == "path") return(bounded_path_plot(x))
  change <- x$facts$change
  marked <- if (is.finite(change) && change > 0 && change <= max(x$rows$m)) change_layers(change)
  ggplot2::ggplot(x$rows, ggplot2::aes(x = .data$m)) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey30", linewidth = 0.5) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$conf.low, ymax = .data$conf.high), fill = "#DCEBEA") +
    ggplot2::geom_linerange(ggplot2::aes(ymin = .data$conf.low, ymax = .data$conf.high),
                            colour = twin_colours[["treated"]], linewidth = 0.9) +
    ggplot2::geom_point(ggplot2::aes(y = .data$estimate), size = 2.4, colour = twin_colours[["treated"]],
                        na.rm = TRUE) +
    marked +
    ggplot2::labs(x = c(magnitude = "m: drift per period, as a multiple of the worst before treatment",
                        curvature = "m: change of the drift's slope per period")[[x$facts$violation]],
                  y = sprintf("effect on %s", x$facts$outcome), title = "What if trends are not parallel?",
                  subtitle = subtitle_of(x),
                  caption = sprintf("%s %s that hold for every violation within the bound.", level_text(x$facts$level),
                                    trend_interval_words(x$facts))) +
    twin_look()
}

# The event path, and behind it what is left of each effect for up to three bounds.
bounded_path_plot <- function(x) {
  table <- x$parts$path
  grid <- sort(unique(table$m[!is.na(table$m)]))
  shown <- unique(grid[round(seq(1, length(grid), length.out = min(3L, length(grid))))])
  bounds <- table[table$m %in% shown, ]
  words <- function(m) paste("m at most", vapply(m, format, "", digits = 3L))
  bounds$bound <- factor(words(bounds$m), rev(words(shown)))
  path <- table[is.na(table$m), ]
  path$stage <- factor(ifelse(path$event_time < 0, "before", "under treatment"), c("before", "under treatment"))
  fills <- stats::setNames(grDevices::colorRampPalette(c("#EEF5F4", "#9CCBC6"))(length(shown)), levels(bounds$bound))
  ggplot2::ggplot(path, ggplot2::aes(x = .data$event_time, y = .data$estimate)) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_vline(xintercept = -0.5, colour = twin_mark, linetype = "22", linewidth = 0.6) +
    ggplot2::geom_ribbon(data = bounds, ggplot2::aes(ymin = .data$conf.low, ymax = .data$conf.high, group = .data$bound,
                                                     fill = .data$bound)) +
    ggplot2::geom_linerange(ggplot2::aes(ymin = .data$conf.low, ymax = .data$conf.high, colour = .data$stage),
                            linewidth = 1) +
    ggplot2::geom_point(ggplot2::aes(colour = .data$stage), size = 2.8) +
    ggplot2::scale_fill_manual(values = fills, name = NULL) +
    ggplot2::scale_colour_manual(values = stage_colours, name = NULL) +
    ggplot2::scale_x_continuous(breaks = function(limits) unique(round(pretty(limits, 10)))) +
    ggplot2::labs(x = "periods since treatment", y = sprintf("effect on %s", x$facts$outcome),
                  title = "The path, and what is left of it if trends are not parallel",
                  subtitle = sprintf("Lines: %s interval of each effect. Shaded: for every drift within the bound, %s.",
                                     level_text(x$facts$level), c(
                                       magnitude = "m times the worst before treatment per period",
                                       curvature = "a slope that changes by m per period")[[x$facts$violation]]),
                  caption = "Each effect by itself, by direct intervals.") +
    twin_look()
}

#' @exportS3Method
table_parts.twin_probe_trends <- function(x, number = column_text) { # nolint: object_name_linter.
  table <- data.frame(m = column_text(x$rows$m), low = number(x$rows$conf.low), high = number(x$rows$conf.high))
  list(table = table, caption = trends_title(x), first = "m", keys = table$m, levels = rep(NA, nrow(table)),
       note = probe_verdict(x))
}
