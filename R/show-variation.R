# Who gains.

#' @export
format.twin_variation <- function(x, ...) {
  rlang::check_dots_empty()
  outcomes <- x$tests$outcome
  blocks <- unlist(lapply(outcomes, function(outcome) {
    c(if (length(outcomes) > 1L) c(paste0(outcome, ":"), ""), variation_lines(x, outcome), "")
  }))
  c(wrap_lines(variation_title(x)), "", blocks, wrap_lines(variation_method(x)),
    wrap_lines(seal_sentence(summary(logbook(x$study)))))
}

#' @export
print.twin_variation <- function(x, ...) print_lines(x, format(x, ...))

variation_title <- function(x) {
  sprintf("Who gains: does the effect of %s on %s vary among %s?", treatment_of(x$study), and_list(x$tests$outcome),
          estimands[[x$estimand]]$words)
}

variation_lines <- function(x, outcome) {
  c(wrap_lines(average_sentence(x, outcome)), "", table_lines(variation_columns(x, outcome)), "",
    wrap_lines(variation_verdict(x, outcome)), "",
    wrap_lines(sprintf("By predicted effect, %s groups from the smallest to the largest:", count_text(x$groups))),
    "", table_lines(variation_groups(x, outcome)), "",
    wrap_lines(targeting_sentence(x, outcome)), wrap_lines(rule_sentence(x, outcome)))
}

of_outcome <- function(rows, outcome) rows[rows$outcome == outcome, ]

average_sentence <- function(x, outcome) {
  row <- of_outcome(x$tables$predictor, outcome)[1L, ]
  sprintf("On average it is %s (%s).", number_text(row$estimate), interval_phrase(x$level, row$conf.low, row$conf.high))
}

variation_columns <- function(x, outcome, number = column_text) {
  rows <- of_outcome(x$tables$columns, outcome)
  out <- data.frame(Column = rows$column, from = number(rows$least), to = number(rows$most), p = p_text(rows$p.value))
  names(out)[2:3] <- c("Effect from", "to")
  if (x$adjust != "none") out[["adjusted p"]] <- p_text(rows$p.adjusted)
  out
}

variation_groups <- function(x, outcome, number = column_text) {
  rows <- of_outcome(x$tables$groups, outcome)
  out <- data.frame(Group = rows$group, Effect = number(rows$estimate), SE = number(rows$std.error),
                    interval = interval_text(rows$conf.low, rows$conf.high, number))
  names(out)[4L] <- paste(level_text(x$level), "interval")
  out
}

# Nothing is said to vary without its test.
# A few words on several of them.
gains_verdict <- function(found) {
  if (length(found) == 0L) return("not made")
  if (any(vapply(found, function(x) any(does_vary(x)), NA))) "the effect varies" else "no variation was found"
}

variation_verdict <- function(x, outcome) {
  at <- match(outcome, x$tests$outcome)
  test <- x$tests[at, ]
  adjusted <- if (x$adjust == "none") "" else "adjusted "
  numbers <- sprintf("the columns together %sp %s, the predicted effect %sp %s", adjusted,
                     p_phrase(test$adjusted_columns), adjusted, p_phrase(test$adjusted_prediction))
  if (!does_vary(x)[at]) {
    return(sprintf("No variation was found (%s). That is no proof that all gain alike.", numbers))
  }
  found <- c(test$adjusted_columns, test$adjusted_prediction) < 1 - x$level
  slope <- of_outcome(x$tables$calibration, outcome)
  own <- slope[slope$term == "per_sd", ]
  c(sprintf("The effect varies (%s).", numbers), if (isTRUE(found[2L])) sprintf(
    paste("A standard deviation more of predicted effect goes with %s more of effect (%s); slope %s, 1 where it is",
          "calibrated."),
    number_text(own$estimate), interval_phrase(x$level, own$conf.low, own$conf.high),
    number_text(slope$estimate[slope$term == "slope"])
  )) |> paste(collapse = " ")
}

net_words <- function(x) if (x$costs) ", net of costs," else ""

targeting_sentence <- function(x, outcome) {
  rows <- of_outcome(x$tables$targeting, outcome)
  share <- if (x$budget < 1) max(targeted_shares[targeted_shares <= max(x$budget, 0.05) + 1e-9]) else 0.2
  row <- rows[which(abs(rows$share - share) < 1e-9), ]
  area <- rows[rows$term == "area", ]
  sprintf(paste("Treating the %g%% with the largest predicted effects would bring%s %s %s a treated unit than as many",
                "at random (%s); area under the curve %s (p %s)."),
          100 * share, net_words(x), number_text(abs(row$estimate)), if (row$estimate < 0) "less" else "more",
          interval_phrase(x$level, row$conf.low, row$conf.high), number_text(area$estimate), p_phrase(area$p.value))
}

rule_sentence <- function(x, outcome) {
  values <- of_outcome(x$tables$values, outcome)
  rule <- values[values$treated == "rule", ]
  all <- values[values$treated == "everybody", ]
  found <- x$rules[[outcome]]
  whom <- if (found == "everybody") "treat everybody" else if (found == "nobody") "treat nobody" else
    paste("treat", found)
  paste0(sprintf(paste("Rule of at most %s: %s. Where it was not learnt it would treat %s and bring%s %s per unit",
                       "(%s); treating everybody brings %s."),
                 plural(x$depth, "question"), whom, share_text(rule$share), net_words(x), number_text(rule$estimate),
                 interval_phrase(x$level, rule$conf.low, rule$conf.high), number_text(all$estimate)),
         if (x$budget < 1) sprintf(" The budget is %g%%.", 100 * x$budget),
         if (!does_vary(x)[match(outcome, x$tests$outcome)]) {
           " With no variation found, neither is a reason to leave units out."
         })
}

variation_method <- function(x) {
  parts <- c(
    sprintf("Unit scores by %s in %s folds%s", and_list(x$learners), count_text(x$folds),
            if (x$repeats > 1L) sprintf(", medians over %s draws of folds", count_text(x$repeats)) else ""),
    "each fold's effects are predicted from the folds before it"
  )
  c(paste0(paste(parts, collapse = "; "), "."), sprintf("Standard errors: %s.", x$text))
}

# Along every column: levels with their intervals, numbers as a curve with its band.
#' @export
plot.twin_variation <- function(x, view = c("columns", "groups", "targeting"), outcome = NULL, ...) {
  rlang::check_dots_empty()
  view <- check_choice(view, c("columns", "groups", "targeting"))
  outcome <- if (is.null(outcome)) x$tests$outcome[1L] else check_choice(outcome, x$tests$outcome)
  plot <- switch(view, columns = variation_plot(x, outcome), groups = groups_plot(x, outcome),
                 targeting = targeting_plot(x, outcome))
  plot + twin_look()
}

variation_plot <- function(x, outcome) {
  rows <- of_outcome(x$tables$levels, outcome)
  rows$column <- factor(rows$column, unique(rows$column))
  average <- of_outcome(x$tables$predictor, outcome)$estimate[1L]
  number <- !is.na(rows$at)
  rows$at[!number] <- far_places(rows[!number, ])
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$at, y = .data$estimate)) +
    ggplot2::geom_hline(yintercept = average, colour = "grey45", linetype = "22") +
    ggplot2::geom_ribbon(data = rows[number, ], ggplot2::aes(ymin = .data$band.low, ymax = .data$band.high),
                         fill = twin_colours[["treated"]], alpha = 0.15) +
    ggplot2::geom_line(data = rows[number, ], colour = twin_colours[["treated"]], linewidth = 1) +
    ggplot2::geom_errorbar(data = rows[!number, ], ggplot2::aes(ymin = .data$band.low, ymax = .data$band.high),
                           width = 0, colour = twin_colours[["treated"]], linewidth = 0.9, na.rm = TRUE) +
    ggplot2::geom_point(data = rows[!number, ], colour = twin_colours[["treated"]], size = 3, na.rm = TRUE) +
    ggplot2::facet_wrap(~column, scales = "free_x") +
    ggplot2::scale_x_continuous(
      breaks = function(limits) {
        if (limits[2L] < far_place) pretty(limits, 5) else rows$at[rows$at > limits[1L] & rows$at < limits[2L]]
      },
      labels = function(at) {
        ifelse(at < far_place, format(at, trim = TRUE), shorten(rows$level[match(at, rows$at)], 14L))
      },
      expand = ggplot2::expansion(0.12)
    ) +
    ggplot2::labs(x = NULL, y = sprintf("effect on %s", outcome), title = variation_title(x),
                  subtitle = paste("Bands hold a whole column at once. Dashed: the average effect.",
                                   variation_verdict(x, outcome)))
}

# Levels stand where no number does, those of each column apart, so that an axis knows which it shows.
far_place <- 1e12

far_places <- function(rows) {
  column <- as.integer(rows$column)
  far_place * (1 + column / 1000) + stats::ave(column, column, FUN = seq_along)
}

groups_plot <- function(x, outcome) {
  rows <- of_outcome(x$tables$groups, outcome)
  rows <- rows[rows$group != "last less first", ]
  average <- of_outcome(x$tables$predictor, outcome)$estimate[1L]
  rows$at <- seq_len(nrow(rows))
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$at, y = .data$estimate)) +
    ggplot2::geom_hline(yintercept = average, colour = "grey45", linetype = "22") +
    ggplot2::geom_errorbar(ggplot2::aes(ymin = .data$conf.low, ymax = .data$conf.high), width = 0, linewidth = 0.9,
                           colour = twin_colours[["treated"]], na.rm = TRUE) +
    ggplot2::geom_point(colour = twin_colours[["treated"]], size = 3.2) +
    ggplot2::scale_x_continuous(breaks = rows$at) +
    ggplot2::labs(x = "groups of the predicted effect, from the smallest to the largest",
                  y = sprintf("effect on %s, %s interval", outcome, level_text(x$level)),
                  title = "Do those who were said to gain more gain more?",
                  subtitle = paste("Dashed: the average effect.", variation_verdict(x, outcome)))
}

targeting_plot <- function(x, outcome) {
  rows <- of_outcome(x$tables$targeting, outcome)
  rows <- rows[rows$term == "curve" & rows$share < 1, ]
  plot <- ggplot2::ggplot(rows, ggplot2::aes(x = .data$share, y = .data$estimate)) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_ribbon(ggplot2::aes(ymin = .data$band.low, ymax = .data$band.high), fill = twin_colours[["treated"]],
                         alpha = 0.15, na.rm = TRUE) +
    ggplot2::geom_line(colour = twin_colours[["treated"]], linewidth = 1)
  if (x$budget < 1) plot <- plot + ggplot2::geom_vline(xintercept = x$budget, colour = twin_mark, linetype = "22")
  plot + ggplot2::scale_x_continuous(labels = share_axis) +
    ggplot2::labs(x = "share treated, those with the largest predicted effects first",
                  y = "more than as many at random",
                  title = "What would choosing whom to treat bring?", subtitle = targeting_sentence(x, outcome),
                  caption = sprintf("Band: the whole curve at once (%s).", level_text(x$level)))
}

#' @exportS3Method
table_parts.twin_variation <- function(x, number = column_text) { # nolint: object_name_linter. An S3 method.
  several <- nrow(x$tests) > 1L
  tables <- lapply(x$tests$outcome, function(outcome) {
    own <- variation_columns(x, outcome, number)
    if (several) cbind(Outcome = outcome, own) else own
  })
  notes <- unlist(lapply(x$tests$outcome, function(outcome) {
    c(average_sentence(x, outcome), variation_verdict(x, outcome), targeting_sentence(x, outcome),
      rule_sentence(x, outcome))
  }))
  plain_parts(do.call(rbind, tables), "Column", variation_title(x),
              paste(c(notes, variation_method(x)), collapse = " "))
}
