#' @export
format.twin_arms_balance <- function(x, ...) {
  c(wrap_lines(sprintf("Balance of %d arms: %s (%s)", length(x$levels), x$design, x$estimand)),
    wrap_lines(arms_verdict(x), 2L), "", table_lines(fit_table(worst_table(x), "SMD was")), "",
    wrap_lines(paste(arms_note(x), "tidy() has every pair, x[[1]] the first contrast.")))
}

# One row per covariate or level: the two arms furthest apart.
worst_table <- function(x, number = column_text) {
  last <- last_sample(x)
  worst <- worst_pairs(x)
  now <- worst[worst$sample == last, ]
  table <- data.frame(Covariate = row_name(now$covariate, now$level))
  if (last != "before") table$`SMD was` <- number(worst$smd[worst$sample == "before"])
  table[[if (last == "before") "SMD" else "SMD now"]] <- number(now$smd)
  table$`worst pair` <- paste(now$first, "-", now$second)
  table$pass <- pass_text(now$pass)
  table
}

#' @export
print.twin_arms_balance <- function(x, ...) print_lines(x, format(x, ...))

arms_verdict <- function(x) {
  s <- generics::glance(x)
  if (is.na(s$worst_smd)) return("No row can be judged.")
  sprintf("%s for every two arms; the worst is %s, |SMD| %s between \"%s\" and \"%s\".", pass_words(s),
          s$worst_covariate, number_text(s$worst_smd), s$first, s$second)
}

arms_note <- function(x) {
  any_two <- any(!x$rows$second %in% x$levels[1L])
  paste0(
    if (any_two) "Of every two arms the pair that lies furthest apart" else
      sprintf("Each arm against \"%s\" (for the %s each comparison is about other units): the one furthest apart",
              x$levels[1L], x$estimand),
    sprintf("; SMD: first minus second, divided by the %s before the design. ", arms_reference_text(x$reference)),
    sprintf("A row passes when no pair's |SMD| is above %s nor its variance ratio outside %s to %s.",
            format(x$limits$smd), format(x$limits$ratio[1L]), format(x$limits$ratio[2L]))
  )
}

arms_reference_text <- function(reference) {
  words <- c(pooled = "pooled sd of the two arms", control = "reference's sd", treated = "sd of the arm compared",
             all = "sd of both arms together")[[reference$from]]
  if (is.null(reference$given)) words else
    sprintf("sd given for %s, and the %s for other rows", and_list(names(reference$given)), words)
}

#' @export
plot.twin_arms_balance <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows[!is.na(x$rows$smd), ]
  rows$size <- abs(rows$smd)
  rows$name <- labelled_rows(rows, x$labels)
  before <- rows[rows$sample == "before", ]
  order <- names(sort(tapply(before$size, before$name, max)))
  rows$name <- factor(wrapped_name(rows$name, 42L), wrapped_name(order, 42L))
  rows$sample <- factor(rows$sample, unique(c("before", last_sample(x))))
  worst <- do.call(rbind, lapply(split(rows, list(rows$name, rows$sample), drop = TRUE), function(own) {
    own[which.max(own$size), ]
  }))
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$size, y = .data$name)) +
    ggplot2::annotate("rect", xmin = 0, xmax = x$limits$smd, ymin = -Inf, ymax = Inf, fill = "#DCEBEA") +
    ggplot2::geom_vline(xintercept = x$limits$smd, colour = twin_colours[["treated"]], linewidth = 0.4) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$sample), shape = 21, size = 1.6, stroke = 0.5, colour = "grey55",
                        alpha = 0.8, position = ggplot2::position_dodge(width = 0.45), show.legend = FALSE) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$sample), worst, shape = 21, size = 3, stroke = 0.9,
                        colour = twin_colours[["treated"]], position = ggplot2::position_dodge(width = 0.45)) +
    ggplot2::scale_fill_manual(values = stats::setNames(c("white", twin_colours[["treated"]]),
                                                        c("before", last_sample(x)))[levels(rows$sample)],
                               name = NULL) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(c(0.02, 0.05)), limits = c(0, NA)) +
    ggplot2::labs(x = "absolute standardized mean difference of two arms", y = NULL,
                  title = sprintf("Balance of %d arms: %s", length(x$levels), x$design),
                  subtitle = paste("Large: the two arms furthest apart; small: all others. The shaded band is the",
                                   sprintf("limit of %s.", format(x$limits$smd)), arms_verdict(x))) +
    twin_look() + ggplot2::theme(axis.text.y = row_names_size(rows$name, 1L))
}

#' @export
format.twin_arms_overlap <- function(x, ...) {
  c(wrap_lines(sprintf("Overlap of %d arms of %s: %s", length(x$levels), x$study$roles$treatment, x$design)), "",
    table_lines(overlap_table(x)), "", wrap_lines(arms_overlap_sentence(x)),
    wrap_lines(if (any(x$outside)) "Next: trim_units(\"common_support\") keeps the others; then weigh_units()." else
      "Next: weigh_units(), stratify_units(), pair_units() or group_units()."))
}

# One row per arm: chances of being in it.
overlap_table <- function(x) {
  own <- x$rows[x$rows$chance_of == x$rows$arm, ]
  others <- vapply(x$levels, function(level) {
    rows <- x$rows[x$rows$chance_of == level & x$rows$arm != level, ]
    score_range_text(min(rows$min), max(rows$max))
  }, "")
  count <- function(inside) count_text(tabulate(x$arm[inside], length(x$levels)))
  data.frame(
    `Chance of` = x$levels, `in the arm` = score_range_text(own$min, own$max), `in others` = unname(others),
    `all reach` = score_range_text(x$support$low, x$support$high),
    `units beyond` = sprintf("%s of %s", count(x$outside), count(x$weight > 0)), check.names = FALSE
  )
}

arms_overlap_sentence <- function(x) {
  s <- generics::glance(x)
  sprintf("%s of %s stand where some arm is never found: a chance beyond what every arm reaches (units beyond: of the
           arm, by any chance). The least chance of any arm is %s.", share_text(s$share_outside),
          plural(s$units, "unit"), number_text(s$least_chance))
}

#' @exportS3Method
table_parts.twin_arms_balance <- function(x, number = column_text) { # nolint: object_name_linter. An S3 method.
  table <- worst_table(x, number)
  worst <- worst_pairs(x)
  first <- worst[worst$sample == "before", ]
  table$Covariate <- labelled_rows(first, x$labels)
  list(table = table, caption = sprintf("Balance of %d arms: %s", length(x$levels), x$design), first = "Covariate",
       keys = first$covariate, levels = first$level, note = paste(arms_verdict(x), arms_note(x)))
}

#' @exportS3Method
table_parts.twin_arms_overlap <- function(x, number = column_text) { # nolint: object_name_linter. An S3 method.
  plain_parts(overlap_table(x), "Chance of", sprintf("Overlap of %d arms: %s", length(x$levels), x$design),
              gsub("\\s+", " ", arms_overlap_sentence(x)))
}

#' @export
print.twin_arms_overlap <- function(x, ...) print_lines(x, format(x, ...))

# One panel per chance, one line per arm.
#' @export
plot.twin_arms_overlap <- function(x, ...) {
  rlang::check_dots_empty()
  inside <- x$weight > 0
  rows <- do.call(rbind, lapply(seq_along(x$levels), function(j) {
    data.frame(of = paste("chance of", x$levels[j]), arm = x$levels[x$arm[inside]], chance = x$chance[inside, j],
               weight = x$weight[inside])
  }))
  rows$of <- factor(rows$of, paste("chance of", x$levels))
  rows$arm <- factor(rows$arm, x$levels)
  support <- cbind(x$support, of = factor(paste("chance of", x$levels), levels(rows$of)))
  s <- generics::glance(x)
  ggplot2::ggplot(rows) +
    ggplot2::geom_rect(data = support, fill = "#DCEBEA", ggplot2::aes(xmin = .data$low, xmax = .data$high,
                                                                      ymin = -Inf, ymax = Inf)) +
    ggplot2::geom_density(ggplot2::aes(x = .data$chance, weight = .data$weight, colour = .data$arm,
                                       linetype = .data$arm), linewidth = 0.8, key_glyph = "path") +
    ggplot2::facet_wrap("of", scales = "free") +
    ggplot2::scale_colour_manual(values = stats::setNames(rep_len(several_shades, length(x$levels)), x$levels),
                                 name = NULL) +
    ggplot2::scale_linetype_discrete(name = NULL) +
    ggplot2::scale_y_continuous(breaks = NULL) +
    ggplot2::labs(x = "chance given the covariates", y = NULL,
                  title = sprintf("Overlap of %d arms of %s", length(x$levels), x$study$roles$treatment),
                  subtitle = sprintf("Shaded: chances that every arm reaches. %s of %s lie beyond in some panel.",
                                     share_text(s$share_outside), plural(s$units, "unit"))) +
    twin_look()
}

#' @export
format.twin_several <- function(x, ...) {
  parts <- parts_of(x)
  c(wrap_lines(sprintf("For each of %s:", plural(length(parts), x$of))),
    unlist(Map(function(part, name) c("", paste0("== ", name, " "), format(part, ...)), parts, names(parts)),
           use.names = FALSE))
}

#' @export
print.twin_several <- function(x, ...) print_lines(x, format(x, ...))

#' Results for each of several effects or arms
#'
#' Verbs that speak of one effect or of two arms, called on several, work on each by itself: [assess_weights()] and
#' [measure_hazard()] on arms of [frame_arms()], every probe on the several effects of [measure_effect()]. `print()`
#' shows them one after the other, `tidy()` and `glance()` give all in one table, `plot()` draws one of them, `x[[2]]`
#' is the second.
#'
#' @param x A `twin_several`.
#' @param which Which of them is drawn: its number or name.
#' @param ... Passed on to the method of the single result.
#' @return `tidy()`, `glance()`: a data frame with `of`, the name of the effect or contrast, before the columns of the
#'   single result. `plot()`: a ggplot.
#' @section Errors: `twin_error_input` for one that is not there.
#' @family judging
#' @examples
#' arms <- frame_arms(crews, treatment = "gear", outcome = "income", reference = "pots", estimand = "ATE",
#'                    covariates = ~ boat_length + crew_size + past_income)
#' weighted <- weigh_units(score_units(arms))
#' assess_weights(weighted)
#' glance(probe_ratio(measure_effect(weighted)))
#' @name several
NULL

#' @rdname several
#' @export
tidy.twin_several <- function(x, ...) rows_of_parts(x, generics::tidy, ...) # nolint: object_name_linter. An S3 method.

#' @rdname several
#' @export
glance.twin_several <- function(x, ...) rows_of_parts(x, generics::glance, ...)

#' @export
as.data.frame.twin_several <- function(x, ...) rows_of_parts(x, as.data.frame, ...)

rows_of_parts <- function(x, rows_of, ...) {
  out <- do.call(rbind, unname(Map(function(part, name) {
    rows <- rows_of(part, ...)
    cbind(of = rep(name, nrow(rows)), rows)
  }, parts_of(x), names(x))))
  rownames(out) <- NULL
  out
}

#' @rdname several
#' @export
plot.twin_several <- function(x, which = 1, ...) {
  name <- if (is.character(which)) which else names(x)[which]
  drawn <- plot(x[[which]], ...)
  if (!inherits(drawn, "ggplot")) return(drawn)
  told <- c(drawn$labels$caption, sprintf("%s, one of %s.", name, plural(length(x), unclass(x)$of)))
  drawn + ggplot2::labs(caption = paste(told, collapse = " "))
}
