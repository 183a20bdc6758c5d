# Distributions of covariates by arm, in each sample, from the study and weights a balance carries.

check_plot_covariates <- function(x, covariate, call = rlang::caller_env()) {
  known <- names(x$study$columns)
  if (identical(covariate, "all")) return(known)
  if (!is.character(covariate) || length(covariate) == 0L) {
    abort_input(c("This view needs a {.arg covariate}: names of columns, or \"all\".",
                  i = "The balance has {.val {known}}."), call = call)
  }
  check_nodes_of_balance(covariate, known, call)
}

check_nodes_of_balance <- function(covariate, known, call) {
  unknown <- setdiff(covariate, known)
  if (length(unknown) == 0L) return(covariate)
  near <- nearest_name(unknown[1L], known)
  abort_input(c("{.arg covariate} must name rows of the balance.", x = "There is no {.val {unknown}}.",
                i = if (is.null(near)) "It has {.val {known}}." else "Did you mean {.val {near}}?"), call = call)
}

plot_distributions <- function(x, view, covariates) {
  levels <- vapply(x$study$columns[covariates], function(column) column$kind %in% c("factor", "binary"), NA)
  numeric <- covariates[!levels]
  parts <- list(
    numeric = if (length(numeric) > 0L) do.call(rbind, lapply(numeric, distribution_data, x = x, view = view)),
    levels = if (any(levels)) do.call(rbind, lapply(covariates[levels], share_data, x = x))
  )
  if (is.null(parts$numeric) && view != "density") {
    abort_input("Columns with levels have no {view} view; use {.code view = \"density\"}.")
  }
  if (is.null(parts$levels) || view != "density") return(plot_numeric(parts$numeric, view, x))
  if (is.null(parts$numeric)) return(plot_shares(parts$levels, x))
  plot_mixed(parts, x)
}

panel_label <- function(x, name) {
  label <- x$labels[[name]]
  if (nzchar(label)) label else name
}

# One row per point of a curve: covariate, sample, arm, x, y.
distribution_data <- function(name, x, view) {
  values <- x$study$columns[[name]]$values
  rows <- lapply(names(x$weights), function(sample) {
    v <- x$weights[[sample]]
    arms <- lapply(c(treated = 1L, control = 0L), function(arm) {
      inside <- x$study$z == arm & v > 0
      list(values = values[inside], v = v[inside] / sum(v[inside]))
    })
    cbind(covariate = panel_label(x, name), sample = sample, curve_of(view, arms, range(values)))
  })
  do.call(rbind, rows)
}

curve_of <- function(view, arms, range) {
  if (view == "quantiles") {
    p <- (1:99) / 100
    return(data.frame(arm = "treated", x = core_weighted_quantiles(arms$control$values, arms$control$v, p),
                      y = core_weighted_quantiles(arms$treated$values, arms$treated$v, p)))
  }
  do.call(rbind, lapply(names(arms), function(arm) {
    values <- arms[[arm]]$values
    if (view == "density") {
      curve <- stats::density(values, weights = arms[[arm]]$v, from = range[1L], to = range[2L], n = 256)
      return(data.frame(arm = arm, x = curve$x, y = curve$y))
    }
    at <- seq(range[1L], range[2L], length.out = 256)
    reached <- cumsum(c(0, arms[[arm]]$v[order(values)]))
    data.frame(arm = arm, x = at, y = reached[findInterval(at, sort(values)) + 1L])
  }))
}

share_data <- function(name, x) {
  column <- x$study$columns[[name]]
  codes <- if (column$kind == "factor") column$values else 2 - column$values
  levels <- column_levels(column)
  rows <- lapply(names(x$weights), function(sample) {
    shares <- core_level_shares(core_level_totals(codes, length(levels), x$study$z, x$weights[[sample]]))
    data.frame(covariate = panel_label(x, name), sample = sample, level = levels,
               arm = rep(c("treated", "control"), each = length(levels)), share = c(shares))
  })
  do.call(rbind, rows)
}

arm_scales <- function(x) {
  names <- arm_labels(x)
  list(
    ggplot2::scale_colour_manual(values = c(twin_colours["treated"], control = "#B87300"), labels = names, name = NULL,
                                 breaks = names(names)),
    ggplot2::scale_linetype_manual(values = c(treated = "solid", control = "42"), labels = names, name = NULL,
                                   breaks = names(names)),
    ggplot2::scale_fill_manual(values = twin_colours, labels = names, name = NULL, breaks = names(names))
  )
}

by_sample <- function(x, data) {
  data$sample <- factor(data$sample, levels = names(x$weights))
  data$covariate <- factor(data$covariate, levels = unique(data$covariate))
  data
}

# Panels by covariate and sample, samples of one covariate side by side, about as many rows as covariates a row.
distribution_panels <- function(data, x, scales = "free") {
  covariates <- length(unique(data$covariate))
  across <- if (covariates <= 2L) 1L else ceiling(sqrt(covariates / 1.5))
  columns <- across * length(x$weights)
  ggplot2::facet_wrap(~ covariate + sample, scales = scales, ncol = columns,
                      labeller = ggplot2::label_wrap_gen(floor(60 / columns), multi_line = TRUE))
}

small_strips <- function() {
  ggplot2::theme(strip.text = ggplot2::element_text(size = 9, margin = ggplot2::margin(1, 0, 1, 0)),
                 axis.text = ggplot2::element_text(size = 8))
}

plot_numeric <- function(data, view, x) {
  data <- by_sample(x, data)
  if (view == "quantiles") return(plot_quantiles(data, x))
  titles <- c(density = "Densities by arm", cumulative = "Cumulative distributions by arm")
  ggplot2::ggplot(data, ggplot2::aes(x = .data$x, y = .data$y)) +
    ggplot2::geom_line(ggplot2::aes(colour = .data$arm, linetype = .data$arm), linewidth = 0.9) +
    distribution_panels(data, x) + arm_scales(x) +
    ggplot2::labs(title = titles[[view]], x = NULL,
                  y = c(density = "density", cumulative = "share at or below")[[view]]) +
    twin_look() + small_strips()
}

# All samples in one panel: on the line the arms are alike.
plot_quantiles <- function(data, x) {
  after <- setdiff(names(x$weights), "before")
  fills <- rep_len(c(twin_colours[["treated"]], twin_colours[["control"]], "grey55"), length(after))
  shades <- c(before = "white", stats::setNames(fills, after))
  ggplot2::ggplot(data, ggplot2::aes(x = .data$x, y = .data$y)) +
    ggplot2::geom_abline(slope = 1, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$sample), shape = 21, colour = twin_colours[["treated"]], size = 1.6,
                        stroke = 0.4) +
    ggplot2::facet_wrap("covariate", scales = "free", labeller = ggplot2::label_wrap_gen(28L)) +
    ggplot2::scale_fill_manual(values = shades, name = NULL) +
    ggplot2::labs(title = "Quantiles, treated against control", x = "control", y = "treated",
                  subtitle = "A point per percentile. On the line both arms are alike. Hollow: before the design.") +
    twin_look() + small_strips()
}

plot_shares <- function(data, x) {
  data <- by_sample(x, data)
  data$arm <- factor(data$arm, levels = c("treated", "control"))
  data$level <- factor(data$level, levels = unique(data$level))
  ggplot2::ggplot(data, ggplot2::aes(x = .data$level, y = .data$share, fill = .data$arm)) +
    ggplot2::geom_col(position = ggplot2::position_dodge(width = 0.75), width = 0.7) +
    distribution_panels(data, x, "free_x") +
    ggplot2::scale_x_discrete(labels = function(level) wrapped_name(level, 14L)) +
    ggplot2::scale_y_continuous(labels = share_axis) +
    arm_scales(x) +
    ggplot2::labs(title = "Shares of levels by arm", x = NULL, y = "share of the arm") +
    twin_look() + small_strips()
}

level_places <- 1e9  # levels stand on the axis from here on, where no number of a covariate is

# Curves and bars in one grid. Levels have places of their own on the common scale, and their names below them.
plot_mixed <- function(parts, x) {
  bars <- by_sample(x, parts$levels)
  keys <- unique(paste(bars$covariate, bars$level, sep = "\r"))
  place <- match(paste(bars$covariate, bars$level, sep = "\r"), keys)
  bars$left <- level_places + place + ifelse(bars$arm == "treated", -0.4, 0)
  names <- sub("^[^\r]*\r", "", keys)
  curves <- parts$numeric
  order <- vapply(names(x$study$columns), function(name) panel_label(x, name), "")
  bars$covariate <- factor(bars$covariate, levels = order)
  curves$covariate <- factor(curves$covariate, levels = order)
  curves$sample <- factor(curves$sample, levels = names(x$weights))
  ticks <- function(limits) {
    if (limits[1L] < level_places / 2) return(scales_breaks(limits))
    seq(ceiling(limits[1L]), floor(limits[2L]))
  }
  labels <- function(at) {
    of_level <- !is.na(at) & at > level_places / 2
    ifelse(of_level, shorten(names[pmax(1, at - level_places)], 9L), format(at, trim = TRUE, drop0trailing = TRUE))
  }
  ggplot2::ggplot() +
    ggplot2::geom_line(data = curves, linewidth = 0.8, ggplot2::aes(x = .data$x, y = .data$y, colour = .data$arm,
                                                                   linetype = .data$arm)) +
    ggplot2::geom_rect(data = bars, ggplot2::aes(xmin = .data$left, xmax = .data$left + 0.4, ymin = 0,
                                                 ymax = .data$share, fill = .data$arm)) +
    distribution_panels(rbind(bars["covariate"], curves["covariate"]), x) +
    ggplot2::scale_x_continuous(breaks = ticks, labels = labels,
                                guide = ggplot2::guide_axis(check.overlap = TRUE)) +
    arm_scales(x) +
    ggplot2::labs(title = "All covariates by arm", subtitle = "Curves: densities. Bars: shares of levels.", x = NULL,
                  y = NULL) +
    twin_look() + small_strips() + ggplot2::theme(axis.text.y = ggplot2::element_blank())
}

scales_breaks <- function(limits) {
  at <- pretty(limits, 3)
  at[at >= limits[1L] & at <= limits[2L]]
}
