#' @export
format.twin_decomposition <- function(x, ...) {
  rlang::check_dots_empty()
  c(wrap_lines(sprintf("The two-way estimate of %s on %s is %s: %s.", treatment_of(x$panel),
                       x$outcome, number_text(x$estimate), if (nrow(x$rows) == 1L) "a single two-by-two comparison" else
                         sprintf("a mean of %s two-by-two comparisons", count_text(nrow(x$rows))))),
    "", table_lines(type_table(x)), "", wrap_lines(decomposition_verdict(x)), wrap_lines(decomposition_notes(x)))
}

#' @export
print.twin_decomposition <- function(x, ...) print_lines(x, format(x, ...))

type_words <- c("later against earlier" = "later against already treated",
                "earlier against later" = "earlier against not yet treated",
                "treated against untreated" = "treated against untreated")

type_table <- function(x, number = column_text) {
  types <- generics::tidy(x, part = "types")
  data.frame(Comparison = type_words[types$type], count = count_text(types$comparisons),
             weight = share_text(types$weight, number), `mean estimate` = number(types$estimate), check.names = FALSE)
}

# Can the two-way number be trusted here? In one or two sentences.
decomposition_verdict <- function(x) {
  if (inherits(x, "twin_dose_decomposition")) return(dose_verdict(x))
  facts <- generics::glance(x)
  negative <- sprintf("none of the %d cells has a negative weight", facts$cells)
  if (facts$negative_cells > 0L) {
    negative <- sprintf("%d of %d cells enter with a negative weight (together %s)", facts$negative_cells, facts$cells,
                        number_text(facts$negative_weight))
  }
  start <- sprintf("%s of the weight lies on comparisons with units treated already, and %s.",
                   share_text(facts$forbidden_weight), negative)
  if (is.na(facts$att)) {
    return(paste(start, if (facts$trusted) "That does little harm here, as far as weights can tell." else
      "Nothing clean is left to hold the number against; don't trust it."))
  }
  paste(start, sprintf("The mean effect under treatment is %s.", number_text(facts$att)), distance_sentence(facts))
}

# How far the two-way number lies from that mean, against the rule.
distance_sentence <- function(facts) {
  away <- abs(facts$estimate - facts$att)
  told <- sprintf(paste("The two-way number is %s away from it; it would do within half its standard error (%s) or a",
                        "tenth of"), number_text(away), number_text(0.5 * facts$std.error))
  told <- paste(told, sprintf("its size (%s):", number_text(0.1 * abs(facts$att))))
  paste(told, if (facts$trusted) "it may be trusted here." else
    "don't trust it here. Use group-time effects or imputation.")
}

decomposition_notes <- function(x) {
  c(x$note, if (x$covariates) "Covariates are left out: the decomposition is of the regression without them.",
    "tidy() holds the comparisons, tidy(part = \"cells\") the weight of every cell.")
}

#' @export
plot.twin_decomposition <- function(x, ...) {
  rlang::check_dots_empty()
  table <- x$rows
  table$type <- factor(type_words[table$type], type_words)
  shades <- stats::setNames(c(twin_mark, twin_colours[["treated"]], twin_colours[["control"]]), type_words)
  shapes <- stats::setNames(c(4, 16, 2), type_words)
  ggplot2::ggplot(table, ggplot2::aes(x = .data$weight, y = .data$estimate, colour = .data$type, shape = .data$type)) +
    ggplot2::geom_hline(yintercept = 0, colour = "grey60", linewidth = 0.4) +
    ggplot2::geom_hline(yintercept = x$estimate, linetype = "22", colour = "grey25") +
    ggplot2::annotate("text", x = Inf, y = x$estimate, label = sprintf("two-way %s", number_text(x$estimate)),
                      hjust = 1.02, vjust = -0.6, size = 3.6, colour = "grey25") +
    ggplot2::geom_point(size = 3.4, stroke = 1.2) +
    ggplot2::geom_text(ggplot2::aes(label = paste(.data$treated, "/", .data$control),
                                    hjust = ifelse(.data$weight > mean(range(.data$weight)), 1.15, -0.15)), size = 3,
                       show.legend = FALSE, check_overlap = TRUE) +
    ggplot2::scale_colour_manual(values = shades, name = NULL) +
    ggplot2::scale_shape_manual(values = shapes, name = NULL) +
    ggplot2::scale_x_continuous(labels = function(v) paste0(format(100 * v, trim = TRUE), "%"),
                                expand = ggplot2::expansion(c(0.05, 0.05))) +
    ggplot2::labs(x = "weight in the two-way estimate", y = "estimate of the comparison",
                  title = sprintf("What the two-way estimate of %s is made of", treatment_of(x$panel)),
                  subtitle = decomposition_verdict(x),
                  caption = "Labels: treated cohort / the one it is compared with.") +
    twin_look()
}

#' @exportS3Method
table_parts.twin_decomposition <- function(x, number = column_text) { # nolint: object_name_linter. An S3 method.
  plain_parts(type_table(x, number), "Comparison", sprintf("The two-way estimate of %s on %s taken apart",
                                                           treatment_of(x$panel), x$outcome),
              paste(c(decomposition_verdict(x), x$note), collapse = " "))
}
