#' @export
format.twin_hazard <- function(x, ...) {
  lines <- NextMethod()
  c(lines[seq_len(length(lines) - 1L)],
    wrap_lines(sprintf("Events (%s): %s of %s treated, %s of %s control.", x$event, count_text(x$events[[1L]]),
                       count_text(x$counts[["treated"]]), count_text(x$events[[2L]]),
                       count_text(x$counts[["control"]]))), lines[length(lines)])
}

# The hazard ratio, and the difference of mean times.
hazard_sentence <- function(x) {
  row_of <- function(term) {
    table <- generics::tidy(x)
    table[table$term == term, ]
  }
  ratio <- row_of("hazard_ratio")
  time <- row_of("restricted_mean_difference")
  roles <- x$study$roles
  sprintf(paste("With %s = \"%s\" rather than \"%s\", the hazard of %s is %s times as high (%s), and mean",
                "%s up to %s differs by %s (%s), for %s; estimated by %s."),
          roles$treatment, x$study$levels[["treated"]], x$study$levels[["control"]], x$event,
          number_text(ratio$estimate), interval_phrase(x$level, ratio$conf.low, ratio$conf.high), x$outcome,
          format(x$horizon, digits = 4), number_text(time$estimate), interval_text(time$conf.low, time$conf.high),
          effect_population(x, if (x$kind == "raw") "differs" else "changes"), hazard_method(x))
}

# The covariates of `model` are those of the hazard ratio alone, those of `curve_model` those of the curves.
hazard_method <- function(x) {
  model <- x$source$asked$model
  curves <- x$source$asked$curve_model
  censoring <- x$source$asked$censoring_model
  if (x$kind == "raw" && is.null(c(model, censoring))) return("Cox regression, nothing adjusted")
  words <- if (x$kind == "raw") "Cox regression" else effect_method(x)
  c(
    words,
    if (!is.null(model)) sprintf("the hazard ratio among units with the same %s%s", and_list(all.vars(model)),
                                 if (x$kind == "raw") ", curves and mean times unadjusted" else ""),
    if (!is.null(curves)) sprintf("curves and mean times augmented by a model in each arm (%s)",
                                  and_list(all.vars(curves))),
    if (!is.null(censoring)) sprintf("curves and mean times by units whose time is known, censoring modelled by %s",
                                     and_list(all.vars(censoring)))
  ) |> paste(collapse = "; ")
}

# Curves above, numbers at risk below, on one time axis.
#' @export
plot.twin_hazard <- function(x, ...) {
  rlang::check_dots_empty()
  panels <- c("share without the event", "still there")
  in_panel <- function(table, k) cbind(table, panel = factor(panels[k], panels))
  curves <- in_panel(generics::tidy(x, part = "curves"), 1L)
  risk <- in_panel(x$at_risk, 2L)
  risk$y <- risk_rows[risk$arm]
  risk$text <- sprintf("%s (%s)", count_text(risk$counted), count_text(round(risk$weighted)))
  ggplot2::ggplot(curves, ggplot2::aes(x = .data$time, colour = .data$arm)) +
    ggplot2::geom_rect(
      ggplot2::aes(xmin = .data$time, xmax = .data$until, ymin = .data$conf.low, ymax = .data$conf.high,
                   fill = .data$arm), step_bands(curves), colour = NA, alpha = 0.18, inherit.aes = FALSE
    ) +
    ggplot2::geom_step(ggplot2::aes(y = .data$survival, linetype = .data$arm), linewidth = 0.9) +
    ggplot2::geom_text(ggplot2::aes(y = .data$y, label = .data$text), risk, size = 3.3, show.legend = FALSE) +
    ggplot2::geom_blank(ggplot2::aes(y = .data$y),
                        in_panel(data.frame(time = 0, y = c(0, 0.28), arm = "treated"), 2L)) +
    ggplot2::facet_grid(panel ~ ., scales = "free_y", space = "free_y", switch = "y") +
    arm_scales(x$study) +
    ggplot2::scale_x_continuous(breaks = unique(risk$time), expand = ggplot2::expansion(0.06)) +
    ggplot2::coord_cartesian(clip = "off") +
    ggplot2::scale_y_continuous(breaks = curve_breaks, labels = curve_labels) +
    ggplot2::labs(x = x$outcome, y = NULL, title = sprintf("%s by %s", x$outcome, x$study$roles$treatment),
                  subtitle = hazard_subtitle(x),
                  caption = "Still there: units as counted, in brackets by weight.") +
    twin_look() +
    ggplot2::theme(strip.placement = "outside", strip.text.y.left = ggplot2::element_text(hjust = 0.5))
}

# Where the counts of an arm stand in the lower panel, and axes that know which panel they are in.
risk_rows <- c(treated = 0.21, control = 0.07)
curve_breaks <- function(limits) if (limits[2L] < 0.5) unname(risk_rows) else pretty(limits, 5)
curve_labels <- function(at) {
  ifelse(at %in% risk_rows, names(risk_rows)[match(at, risk_rows)], ifelse(is.na(at), "", share_text(at)))
}

# A curve is level between its times, and so is its band.
step_bands <- function(curves) {
  parts <- lapply(split(curves, curves$arm), function(part) {
    cbind(part[-nrow(part), ], until = part$time[-1L])
  })
  do.call(rbind, unname(parts))
}

hazard_subtitle <- function(x) {
  table <- generics::tidy(x)
  ratio <- table[table$term == "hazard_ratio", ]
  time <- table[table$term == "restricted_mean_difference", ]
  sprintf("Hazard ratio %s (%s); mean %s up to %s differs by %s (%s). For %s; bands are %s intervals.",
          number_text(ratio$estimate), interval_text(ratio$conf.low, ratio$conf.high), x$outcome,
          format(x$horizon, digits = 4), number_text(time$estimate), interval_text(time$conf.low, time$conf.high),
          effect_population(x, if (x$kind == "raw") "differs" else "changes"), level_text(x$level))
}
