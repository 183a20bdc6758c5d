# Balance, overlap and weights of more than two arms, before outcomes.

# Designs of every contrast; of arms without one, the studies of two arms.
judged_contrasts <- function(x) {
  if (!is.null(x$designs) || is.null(x$score)) return(contrasts_of(x))
  contrasts_of(as_framed(x))
}

# The balance of every two arms that can be compared: each with the reference, and where all speak of one population
# any two others as well.
arms_balance <- function(x, asked, given, call = rlang::caller_env()) {
  refuse_stray(intersect(given, c("by", "tests")), "more than two arms",
               "Take them one at a time from {.fn contrasts_of}.", call)
  shared <- arms_share_population(x$base$estimand)
  if (shared && !is.null(asked$reference)) check_arms_reference(asked$reference, call)
  designs <- judged_contrasts(x)
  shared <- shared && length(unique(lapply(designs, note_of_design))) == 1L
  parts <- lapply(designs, function(design) do.call(assess_balance, c(list(design), asked)))
  rows <- do.call(rbind, unname(lapply(parts, contrast_balance)))
  first <- parts[[1L]]
  if (shared) rows <- rbind(rows, other_pairs(parts))
  rownames(rows) <- NULL
  structure(list(rows = rows, parts = parts, limits = first$limits, reference = first$reference, labels = first$labels,
                 levels = x$levels, design = arms_label(x), estimand = x$base$estimand, study = x$base),
            class = "twin_arms_balance")
}

# The sd of the arm compared, or of both arms, is not the same for every two.
check_arms_reference <- function(reference, call) {
  if (!is.character(reference) || !any(reference %in% c("treated", "all"))) return(invisible(reference))
  abort_unsupported(c("{.code reference = \"{reference[1]}\"} is not the same sd for every two arms.",
                      i = "Use {.val pooled}, {.val control} (the arms' reference) or named numbers."), call = call)
}

note_of_design <- function(x) if (inherits(x, "twin_design")) x$note

arms_label <- function(x) {
  labels <- vapply(x$steps, `[[`, "", "label")
  if (length(labels) == 0L) "raw sample" else paste(labels, collapse = ", ")
}

# One contrast with the reference.
contrast_balance <- function(balance) {
  rows <- balance$rows
  data.frame(first = balance$levels[["treated"]], second = balance$levels[["control"]],
             rows[c("covariate", "level", "kind", "sample")], mean_first = rows$mean_treated,
             mean_second = rows$mean_control, sd_first = rows$sd_treated, sd_second = rows$sd_control, smd = rows$smd,
             variance_ratio = rows$variance_ratio, pass = rows$pass)
}

# Any two arms other than the reference, from their sides of the contrasts. The sd of the two arms standardizes, or the
# reference's where the population is its own.
other_pairs <- function(parts) {
  if (length(parts) < 2L) return(NULL)
  pairs <- utils::combn(length(parts), 2L)
  do.call(rbind, lapply(seq_len(ncol(pairs)), function(p) {
    pair_balance(parts[[pairs[2L, p]]], parts[[pairs[1L, p]]])
  }))
}

pair_balance <- function(first, second) {
  one <- first$rows
  other <- second$rows
  before <- one$sample == "before"
  own <- cbind(one[before, c("covariate", "level", "kind")], var_treated = one$sd_treated[before]^2,
               var_control = (if (first$reference$from == "control") one$sd_control else other$sd_treated)[before]^2)
  sd <- rep(row_sds(own, first$reference, NULL), length.out = nrow(one))  # the same rows, sample after sample
  smd <- standardized(one$mean_treated - other$mean_treated, sd)
  share <- one$kind %in% c("binary", "level", "missing")
  ratio <- ifelse(!share & other$sd_treated > 0, (one$sd_treated / other$sd_treated)^2, NA)
  within <- is.na(ratio) | (ratio >= first$limits$ratio[1L] & ratio <= first$limits$ratio[2L])
  data.frame(first = first$levels[["treated"]], second = second$levels[["treated"]],
             one[c("covariate", "level", "kind", "sample")], mean_first = one$mean_treated,
             mean_second = other$mean_treated, sd_first = one$sd_treated, sd_second = other$sd_treated, smd = smd,
             variance_ratio = ratio, pass = ifelse(is.na(smd), NA, abs(smd) <= first$limits$smd & within))
}

# Per covariate (or level) and sample the two arms that lie furthest apart.
worst_pairs <- function(x) {
  key <- paste(x$rows$sample, x$rows$covariate, x$rows$level, sep = "\r")
  places <- lapply(split(seq_along(key), factor(key, unique(key))), function(at) {
    known <- at[!is.na(x$rows$smd[at])]
    if (length(known) == 0L) at[1L] else known[which.max(abs(x$rows$smd[known]))]
  })
  worst <- x$rows[unlist(places), ]
  worst$pass <- unname(vapply(split(x$rows$pass, factor(key, unique(key))), function(pass) {
    if (all(is.na(pass))) NA else all(pass, na.rm = TRUE)
  }, NA))
  rownames(worst) <- NULL
  worst
}

#' @export
tidy.twin_arms_balance <- function(x, part = c("pairs", "worst"), ...) { # nolint: object_name_linter. An S3 method.
  rlang::check_dots_empty()
  part <- check_choice(part, c("pairs", "worst"))
  if (part == "worst") worst_pairs(x) else x$rows
}

#' @export
as.data.frame.twin_arms_balance <- function(x, ...) x$rows

#' @export
`[[.twin_arms_balance` <- function(x, i) part_called(unclass(x)$parts, i)

#' @export
glance.twin_arms_balance <- function(x, ...) {
  rlang::check_dots_empty()
  last <- last_sample(x)
  rows <- worst_pairs(x)
  rows <- rows[rows$sample == last & !is.na(rows$pass), ]
  worst <- which.max(abs(rows$smd))
  none <- length(worst) == 0L
  data.frame(sample = last, rows = nrow(rows), passing = sum(rows$pass),
             worst_smd = if (none) NA_real_ else abs(rows$smd[worst]),
             worst_covariate = if (none) NA_character_ else row_name(rows$covariate[worst], rows$level[worst]),
             first = if (none) NA_character_ else rows$first[worst],
             second = if (none) NA_character_ else rows$second[worst])
}

last_sample <- function(x) x$rows$sample[nrow(x$rows)]

# Where every arm's units stand by their chance of each arm.
arms_overlap <- function(x, call = rlang::caller_env()) {
  check_arms_scored(x, "assess_overlap", call)
  e <- x$score$fitted
  s <- sampling_weight(x$base)
  support <- core_arm_support(e, x$arm, s)
  beyond <- t(t(e) < support[, 1L] | t(e) > support[, 2L])
  rows <- do.call(rbind, lapply(seq_along(x$levels), function(j) {
    do.call(rbind, lapply(seq_along(x$levels), function(k) {
      inside <- x$arm == k & s > 0
      spread <- core_weighted_quantiles(e[inside, j], s[inside], c(0, 0.1, 0.25, 0.5, 0.75, 0.9, 1))
      data.frame(chance_of = x$levels[j], arm = x$levels[k], n = sum(inside), min = spread[1L], q10 = spread[2L],
                 q25 = spread[3L], median = spread[4L], q75 = spread[5L], q90 = spread[6L], max = spread[7L],
                 outside = sum(beyond[inside, j]), share_outside = sum(s[inside & beyond[, j]]) / sum(s[inside]))
    }))
  }))
  outside <- rowSums(beyond) > 0 & s > 0
  log_once(x$base, "judge", paste("overlap of", arms_label(x)),
           sprintf("%d of %d units beyond what every arm reaches", sum(outside), sum(s > 0)))
  structure(list(rows = rows, support = data.frame(arm = x$levels, low = support[, 1L], high = support[, 2L]),
                 outside = outside, arm = x$arm, levels = x$levels, chance = e, weight = s,
                 design = arms_label(x), study = x$base), class = "twin_arms_overlap")
}

#' @export
tidy.twin_arms_overlap <- function(x, part = c("chances", "support"), ...) { # nolint: object_name_linter.
  rlang::check_dots_empty()
  if (check_choice(part, c("chances", "support")) == "support") x$support else x$rows
}

#' @export
as.data.frame.twin_arms_overlap <- function(x, ...) x$rows

#' @export
glance.twin_arms_overlap <- function(x, ...) {
  rlang::check_dots_empty()
  inside <- x$weight > 0
  data.frame(units = sum(inside), outside = sum(x$outside),
             share_outside = sum(x$weight[x$outside]) / sum(x$weight[inside]),
             least_chance = min(x$chance[inside, ]))
}
