#' @export
format.twin_balance <- function(x, ...) {
  table <- fit_table(balance_table(x), spare = c("KS", "ratio"))
  groups <- if (is.null(x$by)) NA else unique(x$rows$group)
  first <- x$rows$sample == "before"
  blocks <- lapply(groups, function(group) {
    inside <- if (is.null(x$by)) TRUE else x$rows$group[first] %in% group
    c(if (!is.na(group)) c("", by_words(x$by, group)), table_lines(table[inside, , drop = FALSE]))
  })
  c(
    wrap_lines(sprintf("Balance: %s (%s)", sparing_estimand(x$design, x$estimand), x$estimand)),
    unlist(lapply(verdict_texts(x), wrap_lines, indent = 2L)), "", unlist(blocks), "", wrap_lines(balance_note(x)),
    label_lines(x$labels)
  )
}

#' @export
print.twin_balance <- function(x, ...) print_lines(x, format(x, ...))

# One sentence per judged sample, headed by its name when there are several.
verdict_texts <- function(x) {
  vapply(judged_samples(x), function(sample) {
    s <- glance_sample(x, sample)
    rows <- sample_rows(x, sample)
    undefined <- sum(is.na(rows$smd) & !rows$one_arm)
    paste0(
      if (x$several) paste0(sample, ": "),
      sprintf("%s; the worst is %s with |SMD| %s. ", pass_words(s), s$worst_covariate,
              number_text(s$worst_smd)),
      if (undefined > 0L) sprintf("%s no reference sd and %s not count as passing. ",
                                  if (undefined == 1L) "1 row has" else paste(undefined, "rows have"),
                                  if (undefined == 1L) "does" else "do"),
      ratio_text(rows, x$limits$smd),
      uncounted_text(rows),
      sprintf("Effective sample: %s treated, %s control. Joint imbalance %s.", count_text(round(s$ess_treated)),
              count_text(round(s$ess_control)), number_text(s$mahalanobis))
    )
  }, "")
}

# Rows that fail by their variance ratio alone, which the worst |SMD| does not tell.
ratio_text <- function(rows, limit) {
  rows <- rows[fails_by_ratio(rows, limit), ]
  if (nrow(rows) == 0L) return("")
  ratio <- furthest_ratio(rows)
  worst <- which.max(abs(log(ratio)))
  sprintf("%s by the variance ratio alone, %s (%s). ", if (nrow(rows) == 1L) "1 row fails" else
    paste(nrow(rows), "rows fail"), row_name(rows$covariate[worst], rows$level[worst]),
    number_text(ratio[worst]))
}

# By which limits a design fails, and in which rows; NULL where all pass. The limits are those of the balance.
missed_limits <- function(x, name) {
  texts <- vapply(judged_samples(x), function(sample) {
    rows <- sample_rows(x, sample)
    failed <- rows[!is.na(rows$pass) & !rows$pass, ]
    if (nrow(failed) == 0L) return(NA_character_)
    by_ratio <- fails_by_ratio(failed, x$limits$smd)
    failed <- failed[order(by_ratio, -abs(largest_smd(failed))), ]
    by_ratio <- fails_by_ratio(failed, x$limits$smd)
    size <- vapply(abs(largest_smd(failed)), beyond_text, "", limit = x$limits$smd)
    listing <- sprintf("%s (%s %s)", row_name(failed$covariate, failed$level),
                       ifelse(by_ratio, "variance ratio", "|SMD|"),
                       ifelse(by_ratio, number_text(furthest_ratio(failed)), size))
    more <- length(listing) - 3L
    sprintf("%s is not balanced by its limits (|SMD| at most %s, variance ratio %s to %s): %s%s.",
            if (x$several) sample else name, format(x$limits$smd), format(x$limits$ratio[1L]),
            format(x$limits$ratio[2L]), paste(utils::head(listing, 3L), collapse = ", "),
            if (more > 0L) sprintf(" and %s", plural(more, "more row")) else "")
  }, "")
  texts <- unname(texts[!is.na(texts)])
  if (length(texts) == 0L) NULL else paste(texts, collapse = " ")
}

fails_by_ratio <- function(rows, limit) !is.na(rows$pass) & !rows$pass & abs(largest_smd(rows)) <= limit

# Levels that only one arm has: no design can balance them while their units are in.
uncounted_text <- function(rows) {
  rows <- rows[uncounted(rows), ]
  if (nrow(rows) == 0L) return("")
  sprintf("Not counted, since only one arm has %s (%s). ", if (nrow(rows) == 1L) "it" else "them",
          paste(row_name(rows$covariate, rows$level), collapse = ", "))
}

verdict_text <- function(x) paste(verdict_texts(x), collapse = " ")

# One row per covariate or level (and group). One design: means after it and both differences; several: the
# differences of each.
balance_table <- function(x, number = column_text) {
  judged <- judged_samples(x)
  rows <- lapply(stats::setNames(nm = unique(c("before", judged))), function(sample) x$rows[x$rows$sample == sample, ])
  last <- rows[[judged[length(judged)]]]
  table <- data.frame(Covariate = row_name(last$covariate, last$level))
  if (!x$several) {
    table$Treated <- value_text(last$mean_treated, last$kind, number)
    table$Control <- value_text(last$mean_control, last$kind, number)
  }
  table[[if (identical(judged, "before")) "SMD" else "SMD was"]] <- number(rows$before$smd)
  for (sample in setdiff(judged, "before")) {
    table[[if (x$several) sample else "SMD now"]] <- number(rows[[sample]]$smd)
  }
  if (!is.null(x$imputed) && !x$several) table$worst <- number(last$smd_worst)
  if (x$tests) table$p <- p_text(last$p.value)
  if (!x$several) {
    table$ratio <- number(last$variance_ratio)
    table$KS <- number(last$ks)
  }
  table$pass <- pass_text(Reduce(`&`, lapply(rows[judged], `[[`, "pass")))
  if (!x$several) table$pass[fails_by_ratio(last, x$limits$smd)] <- "NO: ratio"
  table
}

pass_text <- function(pass) ifelse(is.na(pass), "n/a", ifelse(pass, "yes", "NO"))

balance_note <- function(x) {
  judged <- judged_samples(x)
  paste0(
    if (!x$several) sprintf("Means and shares %s. ", if (identical(judged, "before")) "before any design" else
      "after the design"),
    if (!is.null(x$imputed)) sprintf("Means over %s; %sa row passes when it does in each. ",
                                     plural(x$imputed, "imputed data set"),
                                     if (x$several) "" else "worst: the largest SMD in any of them; "),
    sprintf("SMD: treated minus control, divided by the %s before the design. ", reference_text(x$reference)),
    sprintf("A row passes when |SMD| is at most %s and the variance ratio lies in %s to %s%s.", format(x$limits$smd),
            format(x$limits$ratio[1L]), format(x$limits$ratio[2L]), if (x$several) ", in every design" else ""),
    if (isTRUE(x$coarse > 0)) sprintf(" KS is counted in bins: at most %s too small.", number_text(x$coarse, 4)),
    if (x$tests) paste(" Tests take the weights as known. Balance belongs to the sample: a p-value shrinks with n and",
                       "does not say how large an imbalance is.")
  )
}

# reference: list(from, given), see assess_balance().
reference_text <- function(reference) {
  words <- reference_words[[reference$from]]
  if (is.null(reference$given)) return(words)
  sprintf("sd given for %s, and the %s for other rows", and_list(names(reference$given)), words)
}

#' Plot covariate balance
#'
#' @param x A `twin_balance`.
#' @param view `"differences"` (default): absolute standardized differences, sorted, with the limit shaded; `"ratios"`:
#'   variance ratios with their range; or, for the columns named by `covariate`, their distributions by arm and sample:
#'   `"density"` (bars for columns with levels), `"quantiles"` (treated against control) or `"cumulative"`.
#' @param covariate Names of columns for the distribution views; `"all"` for a grid of all.
#' @param ... Must be empty.
#' @return A ggplot.
#' @family judging
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' balance <- assess_balance(weigh_units(score_units(study)))
#' plot(balance)
#' plot(balance, "density", covariate = "boat_length")
#' @export
plot.twin_balance <- function(x, view = c("differences", "ratios", "density", "quantiles", "cumulative"),
                              covariate = NULL, ...) {
  rlang::check_dots_empty()
  view <- check_choice(view, c("differences", "ratios", "density", "quantiles", "cumulative"))
  if (view %in% c("differences", "ratios")) {
    if (!is.null(covariate)) abort_input("{.arg covariate} belongs to the views of distributions; leave it out.")
    return(if (view == "differences") plot_differences(x) else plot_ratios(x))
  }
  refuse_remote(x$study)
  plot_distributions(x, view, check_plot_covariates(x, covariate))
}

plot_differences <- function(x) {
  rows <- x$rows[!is.na(x$rows$smd), ]
  rows$row <- labelled_rows(rows, x$labels)
  rows$part <- group_headings(x, rows)
  before <- rows[rows$sample == "before" & rows$part == levels(rows$part)[1L], ]
  rows$row <- factor(wrapped_name(rows$row, row_letters(x)),
                     levels = wrapped_name(unique(before$row[order(abs(before$smd))]), row_letters(x)))
  rows$size <- abs(rows$smd)
  rows$sample <- factor(rows$sample, levels = unique(x$totals$sample))
  spans <- do.call(rbind, lapply(split(rows, list(rows$row, rows$part), drop = TRUE), function(own) {
    data.frame(own[1L, c("row", "part")], from = min(own$size), to = max(own$size))
  }))
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$size, y = .data$row)) +
    ggplot2::annotate("rect", xmin = 0, xmax = x$limits$smd, ymin = -Inf, ymax = Inf, fill = "#DCEBEA") +
    ggplot2::geom_vline(xintercept = x$limits$smd, colour = twin_colours[["treated"]], linewidth = 0.4) +
    ggplot2::geom_segment(data = spans, colour = "grey65", linewidth = 0.5, ggplot2::aes(
      x = .data$from, xend = .data$to, y = .data$row, yend = .data$row)) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$sample, shape = .data$sample), size = 2.8, stroke = 0.9,
                        colour = twin_colours[["treated"]]) +
    worst_marks(x, rows) + sample_scales(x) +
    ggplot2::scale_x_continuous(expand = ggplot2::expansion(c(0.02, 0.05)), limits = c(0, NA)) +
    ggplot2::labs(
      x = "absolute standardized mean difference", y = NULL,
      title = if (x$several) "Balance of the designs" else paste("Balance of", x$design),
      subtitle = paste0("The shaded band is the limit of ", format(x$limits$smd), "; ",
                        passing_text(x), ".", if (!is.null(x$imputed)) sprintf(
                          " Bars: the worst of %s.", plural(x$imputed, "imputed data set")))
    ) +
    group_facets(x) + twin_look() + ggplot2::theme(axis.text.y = row_names_size(rows$row, nlevels(rows$part)))
}

# Where imputed data sets differ, the worst of them after the design, as a bar at the end of a line.
worst_marks <- function(x, rows) {
  if (is.null(x$imputed)) return(NULL)
  judged <- rows[rows$sample %in% judged_samples(x), ]
  place <- ggplot2::aes(x = .data$size, xend = abs(.data$smd_worst), y = .data$row, yend = .data$row)
  list(ggplot2::geom_segment(place, judged, colour = twin_colours[["treated"]], linewidth = 0.7),
       ggplot2::geom_point(ggplot2::aes(x = abs(.data$smd_worst), y = .data$row), judged, shape = 124, size = 4,
                           colour = twin_colours[["treated"]]))
}

# What each row of a table is about, all units first.
group_headings <- function(x, rows) {
  if (is.null(x$by)) return(factor(rep("all", nrow(rows))))
  text <- ifelse(is.na(rows$group), "all units", by_words(x$by, rows$group))
  factor(text, unique(text))
}

# Letters of a row's name on one line: fewer where panels share the width.
row_letters <- function(x) if (is.null(x$by)) 42L else 26L

# One panel per group, where there are groups.
group_facets <- function(x) {
  if (!is.null(x$by)) ggplot2::facet_wrap("part", labeller = ggplot2::label_wrap_gen(26L))
}

passing_text <- function(x) {
  s <- glance_group(x)
  if (!x$several) return(paste(s$passing, "of", s$rows, "rows pass"))
  paste0("rows that pass: ", paste(s$sample, s$passing, collapse = ", "), " of ", s$rows[1L])
}

# Before hollow, after filled; several designs by shape and shade.
sample_scales <- function(x) {
  after <- setdiff(x$totals$sample, "before")
  # seven shades and five shapes: no two of up to 35 designs look alike
  shades <- c(twin_colours[["treated"]], twin_colours[["control"]], "grey55", "#7FB2B0", "black", twin_mark, "#F3DCB2")
  fills <- c(before = "white", stats::setNames(rep_len(shades, length(after)), after))
  shapes <- c(before = 21, stats::setNames(rep_len(c(21, 24, 22, 23, 25), length(after)), after))
  list(ggplot2::scale_fill_manual(values = fills, name = NULL),
       ggplot2::scale_shape_manual(values = shapes, name = NULL))
}

plot_ratios <- function(x) {
  rows <- x$rows[!is.na(x$rows$variance_ratio) & x$rows$variance_ratio > 0, ]
  if (nrow(rows) == 0L) abort_input("No row has a variance ratio: there is no numeric covariate.")
  rows$row <- labelled_rows(rows, x$labels)
  rows$row <- factor(rows$row, levels = rev(unique(rows$row)))
  rows$part <- group_headings(x, rows)
  rows$sample <- factor(rows$sample, levels = unique(x$totals$sample))
  ggplot2::ggplot(rows, ggplot2::aes(x = .data$variance_ratio, y = .data$row)) +
    ggplot2::annotate("rect", xmin = x$limits$ratio[1L], xmax = x$limits$ratio[2L], ymin = -Inf, ymax = Inf,
                      fill = "#DCEBEA") +
    ggplot2::geom_vline(xintercept = 1, colour = "grey45", linewidth = 0.4) +
    ggplot2::geom_point(ggplot2::aes(fill = .data$sample, shape = .data$sample), size = 2.8, stroke = 0.9,
                        colour = twin_colours[["treated"]]) +
    sample_scales(x) +
    ggplot2::scale_x_continuous(trans = "log2") +
    ggplot2::labs(x = "variance ratio, treated over control (log scale)", y = NULL, title = "Variance ratios",
                  subtitle = sprintf("The shaded band is the range %s to %s.", format(x$limits$ratio[1L]),
                                     format(x$limits$ratio[2L]))) +
    group_facets(x) + twin_look() + ggplot2::theme(axis.text.y = row_names_size(rows$row, nlevels(rows$part)))
}

# Rows by the columns' own labels.
labelled_rows <- function(rows, labels) {
  label <- unname(labels[rows$covariate])
  row_name(ifelse(nzchar(label), label, rows$covariate), rows$level)
}

#' @export
format.twin_overlap <- function(x, ...) {
  rows <- x$rows
  table <- data.frame(
    Arm = paste(rows$arm, rows$sample), Units = count_text(rows$n), Effective = count_text(round(rows$ess)),
    Least = number_text(rows$min), Median = number_text(rows$median), Greatest = number_text(rows$max),
    Outside = sprintf("%s (%s)", count_text(rows$outside), share_text(rows$share_outside))
  )
  c(
    wrap_lines(sprintf("Overlap of the propensity score: %s", x$design)),
    table_lines(table),
    "",
    wrap_lines(overlap_sentence(x)),
    unlist(Map(region_lines, x$region, names(x$region)), use.names = FALSE)
  )
}

#' @export
print.twin_overlap <- function(x, ...) print_lines(x, format(x, ...))

overlap_sentence <- function(x) {
  before <- x$rows[x$rows$sample == "before", ]
  outside <- function(arm) count_text(before$outside[before$arm == arm])
  sprintf(paste(
    "Both arms occur from %s to %s. Outside, in the sample before the design: %s treated and %s control units have no",
    "counterpart in the other arm's range. AUC %s%s"
  ), number_text(x$common[["low"]]), number_text(x$common[["high"]]), outside("treated"), outside("control"),
  number_text(x$auc),
  paste0(if (x$auc > 0.85) ": treatment is so predictable that overlap is thin." else ".", bins_sentence(x)))
}

# Of what is worked out from a spread of bins.
bins_sentence <- function(x) {
  if (!isTRUE(x$coarse > 0)) return("")
  sprintf(" Quantiles are counted in bins that hold at most %s of an arm.", share_text(x$coarse, number_text))
}

# The densest leaves of an arm's tree, as sentences.
region_lines <- function(region, arm) {
  if (is.null(region)) return(NULL)
  dense <- utils::head(region[region$share > 2 * attr(region, "overall"), ], 2L)
  if (nrow(dense) == 0L) return(NULL)
  looked <- sum(region$units)
  among <- if (looked < attr(region, "of")) sprintf(" (in a sample of %s of %s)", count_text(looked),
                                                    count_text(attr(region, "of")))
  c("", sprintf("Where %s units have no counterpart%s:", arm, if (is.null(among)) "" else among),
    wrap_lines(sprintf("%s of %s where %s", count_text(dense$outside), count_text(dense$units), dense$where), 2L))
}

#' Plot overlap
#'
#' @param x A `twin_overlap`.
#' @param view `"histogram"` (default): treated upwards, control downwards; `"density"`: weighted kernel densities;
#'   `"points"`: one point per unit (at most 5,000, evenly spaced), units beyond the common range crossed, units without
#'   weight hollow.
#' @param scale `"score"` (default) or `"linear"`, the link scale: log odds for a logit.
#' @param weighted Use the weights? Default `TRUE`; `FALSE` counts kept units alike.
#' @param kernel,bandwidth For densities: a kernel of [stats::density()] (default `"gaussian"`) and its bandwidth in
#'   units of the scale, or the name of a rule that chooses it: `"silverman"` (default), `"scott"`, `"sheather_jones"`
#'   or `"cross_validation"`.
#' @param ... Must be empty.
#' @return A ggplot, with panels for the samples before and after the design.
#' @family judging
#' @examples
#' study <- frame_study(crews, treatment = "joined", outcome = "income",
#'                      covariates = ~ boat_length + crew_size + port_size)
#' overlap <- assess_overlap(pair_units(score_units(study)))
#' plot(overlap)
#' plot(overlap, view = "points", scale = "linear")
#' @export
plot.twin_overlap <- function(x, view = c("histogram", "density", "points"), scale = c("score", "linear"),
                              weighted = TRUE, kernel = "gaussian", bandwidth = "silverman", ...) {
  rlang::check_dots_empty()
  view <- check_choice(view, c("histogram", "density", "points"))
  scale <- check_choice(scale, c("score", "linear"))
  check_flag(weighted)
  kernel <- check_choice(kernel, c("gaussian", "epanechnikov", "rectangular", "triangular", "biweight", "cosine"))
  bandwidth <- check_bandwidth(bandwidth)
  if (view != "density" && (bandwidth != "nrd0" || kernel != "gaussian")) {
    abort_input("{.arg kernel} and {.arg bandwidth} belong to {.code view = \"density\"}; leave them out.")
  }
  if (!is.null(x$counts) && view != "histogram") {
    abort_unsupported(c("{.code view = {.val {view}}} needs rows in memory.", i = "Use the histogram, or draw a sample
                         with {.fn fetch_units}."))
  }
  values <- if (scale == "score") x$score else x$linear
  samples <- c("before", if (!is.null(x$after)) "after")
  weights <- lapply(stats::setNames(nm = samples), function(sample) {
    v <- if (sample == "before") x$before else x$after
    if (weighted) v else if (is.null(x$counts)) as.double(v > 0) else x$counts[[sample]]
  })
  layers <- switch(view,
    histogram = histogram_layers(x, values, weights),
    density = density_layers(x, values, weights, kernel, bandwidth),
    points = point_layers(x, values, weights)
  )
  ends <- if (scale == "score") x$common else x$common_linear
  ggplot2::ggplot() +
    ggplot2::annotate("rect", xmin = ends[1L], xmax = ends[2L], ymin = -Inf, ymax = Inf, fill = "grey94") +
    layers + (if (view != "points") outside_marks(x, values, weights)) +
    # a scored study has no design yet: one panel without a heading
    (if (length(samples) > 1L) ggplot2::facet_wrap(~ sample, ncol = 1)) +
    ggplot2::labs(x = if (scale == "score") "propensity score" else paste0("linear score (", x$link, ")"),
                  title = "Overlap of the propensity score", subtitle = paste0(
                    "Grey ground: where both arms occur.",
                    if (view != "points" && any(x$outside)) outside_words(x),
                    if (view == "points") " Crosses: beyond it. Hollow: without weight.")) +
    twin_look()
}

# Ticks for units without a counterpart, at most 500 a sample.
outside_marks <- function(x, values, weights) {
  marks <- do.call(rbind, lapply(names(weights), function(sample) {
    at <- which(x$outside & weights[[sample]] > 0)
    at <- at[unique(round(seq(1, length(at), length.out = min(length(at), 500L))))]
    data.frame(x = values[at], sample = rep(panel_names(sample), length(at)))
  }))
  if (nrow(marks) > 0L) ggplot2::geom_rug(data = marks, ggplot2::aes(x = .data$x), sides = "b", colour = twin_mark,
                                          linewidth = 0.5, length = ggplot2::unit(2.5, "mm"))
}

outside_words <- function(x) {
  before <- x$rows[x$rows$sample == "before", ]
  sprintf(" Ticks at the foot: units beyond it (%s treated, %s control before the design).",
          count_text(before$outside[1L]), count_text(before$outside[2L]))
}

# What stats::density() calls these rules.
bandwidth_rules <- c(silverman = "nrd0", scott = "nrd", sheather_jones = "SJ", cross_validation = "ucv")

check_bandwidth <- function(bandwidth, call = rlang::caller_env()) {
  if (is.character(bandwidth)) return(bandwidth_rules[[check_choice(bandwidth, names(bandwidth_rules), call = call)]])
  check_number(bandwidth, min = 0, open = TRUE, call = call)
  bandwidth
}

panel_names <- function(samples) {
  factor(paste(samples, "the design"), levels = paste(c("before", "after"), "the design"))
}

arm_labels <- function(x, after = c("", "")) {
  c(treated = sprintf("treated (%s)%s", x$levels[["treated"]], after[1L]),
    control = sprintf("control (%s)%s", x$levels[["control"]], after[2L]))
}

histogram_layers <- function(x, values, weights) {
  low <- if (all(values >= 0 & values <= 1)) 0 else min(values)
  width <- ((if (low == 0) 1 else max(values)) - low) / 40
  bars <- do.call(rbind, lapply(names(weights), function(sample) {
    overlap_bars(values, x$z, weights[[sample]], low, width, sample)
  }))
  list(
    ggplot2::geom_col(data = bars, ggplot2::aes(x = .data$middle, y = .data$share, fill = .data$arm), width = width,
                      colour = "white", linewidth = 0.2),
    ggplot2::geom_hline(yintercept = 0, colour = "grey30", linewidth = 0.4),
    ggplot2::scale_fill_manual(values = twin_colours[c("treated", "control")], name = NULL,
                               labels = arm_labels(x, c(", upwards", ", downwards"))),
    ggplot2::scale_y_continuous(labels = function(y) share_text(abs(y))),
    ggplot2::labs(y = "share of the arm")
  )
}

# Shares of each arm's weight in 40 equal bins, control counted downwards.
overlap_bars <- function(values, z, v, low, width, sample) {
  bin <- pmin(floor((values - low) / width), 39)
  rows <- lapply(c(treated = 1L, control = 0L), function(arm) {
    inside <- z == arm
    share <- rowsum(v[inside], bin[inside])[, 1L] / sum(v[inside])
    data.frame(middle = low + (as.numeric(names(share)) + 0.5) * width, share = if (arm == 1L) share else -share,
               arm = if (arm == 1L) "treated" else "control", sample = panel_names(sample))
  })
  rows <- do.call(rbind, unname(rows))
  rows$arm <- factor(rows$arm, levels = c("treated", "control"))
  rows
}

density_layers <- function(x, values, weights, kernel, bandwidth) {
  curves <- do.call(rbind, lapply(names(weights), function(sample) {
    do.call(rbind, lapply(c("treated", "control"), function(arm) {
      inside <- x$z == (arm == "treated") & weights[[sample]] > 0
      v <- weights[[sample]][inside]
      curve <- stats::density(values[inside], weights = v / sum(v), kernel = kernel, n = 512,
                              bw = bandwidth)
      data.frame(x = curve$x, y = curve$y, arm = arm, sample = panel_names(sample))
    }))
  }))
  list(
    ggplot2::geom_line(data = curves, linewidth = 0.9, ggplot2::aes(x = .data$x, y = .data$y, colour = .data$arm,
                                                                   linetype = .data$arm)),
    arm_scales(x), ggplot2::labs(y = "density")
  )
}

point_layers <- function(x, values, weights) {
  keep <- unique(round(seq(1, length(values), length.out = min(length(values), 5000L))))
  points <- do.call(rbind, lapply(names(weights), function(sample) {
    data.frame(
      x = values[keep], y = (x$z[keep] == 1L) + 0.7 * ((keep * 0.6180339887) %% 1 - 0.5),  # spread, the same each time
      arm = ifelse(x$z[keep] == 1L, "treated", "control"), sample = panel_names(sample),
      state = ifelse(x$outside[keep], "beyond", ifelse(weights[[sample]][keep] > 0, "kept", "out"))
    )
  }))
  list(
    ggplot2::geom_point(data = points, size = 1.5, stroke = 0.5, alpha = 0.8, ggplot2::aes(
      x = .data$x, y = .data$y, colour = .data$arm, shape = .data$state)),
    ggplot2::scale_shape_manual(values = c(kept = 16, out = 1, beyond = 4), guide = "none"),
    ggplot2::scale_y_continuous(breaks = c(0, 1), labels = c("control", "treated")),
    ggplot2::scale_colour_manual(values = c(twin_colours["treated"], control = "#B87300"), labels = arm_labels(x),
                                 breaks = c("treated", "control"), name = NULL),
    ggplot2::labs(y = NULL)
  )
}
