#' @export
format.twin_responses <- function(x, ...) {
  c(wrap_lines(sprintf("Known outcomes (%s): %s", x$outcome, x$design)),
    unlist(lapply(response_sentences(x), wrap_lines, indent = 2L)), "",
    table_lines(fit_table(response_table(x), spare = "All"), left = 2L), "",
    wrap_lines(sprintf(paste("Means of all units of an arm, of those whose outcome is known, and of these with",
                             "response weights; differences from all, in sds of the arm. A row passes at %s or less."),
                       format(x$limit))))
}

#' @export
print.twin_responses <- function(x, ...) print_lines(x, format(x, ...))

response_sentences <- function(x) {
  numbers <- generics::glance(x)
  sprintf(paste("%s (\"%s\"): known for %s of %s, who count like %s after weighting; %s, the worst is",
                "%s (%s)."),
          c(treated = "Treated", control = "Control")[numbers$arm], x$levels[numbers$arm], count_text(numbers$known),
          count_text(numbers$units), count_text(round(numbers$ess)), pass_words(numbers),
          numbers$worst_covariate, number_text(numbers$worst_smd))
}

response_table <- function(x, number = column_text) {
  rows <- x$rows
  mean_text <- own_digits(number)
  data.frame(Covariate = row_name(rows$covariate, rows$level), Arm = rows$arm,
             All = mean_text(rows$mean_all), Known = mean_text(rows$mean_known),
             Weighted = mean_text(rows$mean_weighted),
             `SMD was` = number(rows$smd_known),
             `SMD now` = number(rows$smd_weighted), pass = pass_text(rows$pass), check.names = FALSE)
}

#' @export
plot.twin_responses <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- x$rows[!is.na(x$rows$smd_weighted), ]
  label <- labelled_rows(rows, x$labels)
  label <- factor(label, levels = rev(unique(label)))
  words <- c("as known", "with response weights")
  arm <- sprintf("%s (%s)", rows$arm, x$levels[rows$arm])
  data <- data.frame(row = rep(label, 2L), arm = factor(rep(arm, 2L), unique(arm)),
                     size = abs(c(rows$smd_known, rows$smd_weighted)),
                     sample = factor(rep(words, each = nrow(rows)), words))
  ggplot2::ggplot(data, ggplot2::aes(x = .data$size, y = .data$row)) +
    ggplot2::annotate("rect", xmin = 0, xmax = x$limit, ymin = -Inf, ymax = Inf, fill = "#DCEBEA") +
    ggplot2::geom_point(ggplot2::aes(fill = .data$sample, shape = .data$sample), size = 2.8, stroke = 0.9,
                        colour = twin_colours[["treated"]]) +
    ggplot2::scale_shape_manual(values = c(21, 21), name = NULL) +
    ggplot2::scale_fill_manual(values = c("white", twin_colours[["treated"]]), name = NULL) +
    ggplot2::facet_wrap(~ arm, ncol = 1) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(c(0.02, 0.05)), limits = c(0, NA)) +
    ggplot2::labs(x = "absolute difference from all units of the arm, in its sds", y = NULL,
                  title = sprintf("Do units with known %s stand for their arm?", x$outcome),
                  subtitle = sprintf("The shaded band is the limit of %s.", format(x$limit))) +
    twin_look()
}
