# Several effects measured in one call: outcomes, groups, contrasts of arms. A list of effects with what joins them.

# effects: list of twin_effect; asked: the settings of measure_effect(); joint: covariance of all their terms where
# replicates gave it, NULL to have it from the influence contributions.
new_effects <- function(effects, asked, joint = NULL) {
  labels <- effect_keys(effects)
  names(effects) <- do.call(paste, c(unname(labels), sep = ", "))
  structure(list(effects = effects, labels = labels, joint = joint, adjust = asked$adjust, by = asked$by,
                 level = asked$level, bands = if (asked$bands) band_quantiles(effects, asked, joint)),
            class = "twin_effects")
}

# What tells the effects apart: a data frame with those of estimand, contrast, outcome and group that differ.
effect_keys <- function(effects) {
  keys <- lapply(stats::setNames(nm = c("estimand", "contrast", "outcome", "group")), function(key) {
    values <- lapply(effects, `[[`, key)
    if (is.null(values[[1L]])) NULL else unlist(values)
  })
  keys <- Filter(Negate(is.null), keys)
  told <- vapply(keys, function(values) length(unique(values)) > 1L, NA)
  if (!is.null(keys$group)) told["group"] <- TRUE
  as.data.frame(keys[if (any(told)) told else "outcome"])
}

are_effects <- function(x) inherits(x, "twin_effects")

#' @exportS3Method
study_of.twin_effects <- function(x) study_of(x$effects[[1L]]) # nolint: object_name_linter. An S3 method.

#' @export
length.twin_effects <- function(x) length(x$effects)

#' @export
`[[.twin_effects` <- function(x, i) part_called(unclass(x)$effects, i)

#' @export
names.twin_effects <- function(x) names(unclass(x)$effects)

#' @export
tidy.twin_effects <- function(x, part = c("effects", "groups", "arms"), # nolint: object_name_linter.
                              conf.level = x$level, ...) { # nolint: object_name_linter.
  rlang::check_dots_empty()
  part <- check_choice(part, c("effects", "groups", "arms"))
  if (part == "arms") return(arm_differences(x, conf.level))
  if (part == "groups") return(group_differences(x, conf.level))
  tables <- lapply(x$effects, generics::tidy, conf.level = conf.level)
  own <- setdiff(names(x$labels), c("estimand", "outcome"))  # those that are no columns of each already
  keys <- x$labels[rep(seq_along(tables), vapply(tables, nrow, 0L)), own, drop = FALSE]
  table <- cbind(keys, do.call(rbind, unname(tables)))
  rownames(table) <- NULL
  if (x$adjust != "none") table$p.adjusted <- adjusted_p(table, x$adjust)
  if (!is.null(x$bands)) table <- cbind(table, band_limits(x, table))
  table
}

# Degrees of freedom that several effects can be read with together.
least_df <- function(effects) min(vapply(effects, function(effect) core_least_df(effect$df), 0))

p_adjusted <- function(p, adjust) {
  if (adjust == "none") p else stats::p.adjust(p, c(holm = "holm", bh = "BH")[[adjust]])
}

# For looking at all effects: one family per term, means are no tests.
adjusted_p <- function(table, adjust) {
  out <- rep(NA_real_, nrow(table))
  for (term in setdiff(unique(table$term), names(both_arms))) {
    rows <- table$term == term
    out[rows] <- p_adjusted(table$p.value[rows], adjust)
  }
  out
}

# Per term the quantile of the largest |t| over the effects that have it, by draws from their joint distribution: a
# multiplier bootstrap with normal multipliers, given the influence contributions.
band_quantiles <- function(effects, asked, joint) {
  table <- do.call(rbind, lapply(effects, generics::tidy))
  if (is.null(joint)) joint <- joint_vcov(effects, lapply(effects, function(effect) names(effect$estimate)))
  df <- least_df(effects)
  terms <- setdiff(unique(table$term), names(both_arms))
  vapply(stats::setNames(nm = terms), function(term) {
    rows <- which(table$term == term)
    part <- joint[rows, rows, drop = FALSE]
    if (anyNA(part)) {
      abort_unsupported("These matches with replacement have no joint covariance, and so no {.arg bands}.",
                        call = NULL)
    }
    with_own_seed(asked$seed, core_band_quantile(stats::cov2cor(part), asked$level, df))
  }, 0)
}

band_limits <- function(x, table) {
  scale <- term_scale(table$term)
  scaled <- interval_scale(table$estimate, table$std.error, scale)
  limits <- limits_around(scaled$centre, x$bands[table$term] * scaled$spread, scale)
  data.frame(band.low = limits$low, band.high = limits$high)
}

# Differences of each group's difference from the first group's, per outcome and contrast.
group_differences <- function(x, level) {
  if (is.null(x$by)) abort_input("There are no groups here; see {.arg by} of {.fn measure_effect}.")
  rows <- lapply(effect_families(x), function(at) {
    joint <- differences_vcov(x, at)
    estimate <- vapply(x$effects[at], function(effect) effect$estimate[["difference"]], 0)
    df <- least_df(x$effects[at])
    groups <- x$labels$group[at]
    se <- sqrt(diag(joint)[-1L] + joint[1L, 1L] - 2 * joint[1L, -1L])
    contrast_rows(data.frame(x$labels[at[-1L], setdiff(names(x$labels), c("group", "outcome")), drop = FALSE],
                             outcome = x$effects[[at[1L]]]$outcome, first = unname(groups[-1L]),
                             second = groups[[1L]], row.names = NULL),
                  estimate[-1L] - estimate[1L], se, df, level)
  })
  do.call(rbind, unname(rows))
}

# Every two arms against each other, per outcome and group: differences of their differences from the reference, which
# all speak of one population (Methods, "Effects").
arm_differences <- function(x, level) {
  check_one_population(x)
  rows <- lapply(arm_families(x), function(at) {
    joint <- arms_vcov(x, at)
    estimate <- c(0, vapply(x$effects[at], function(effect) effect$estimate[["difference"]], 0))
    names <- names_of_arms(x, at)
    pairs <- utils::combn(length(names), 2L)
    first <- pairs[2L, ]
    second <- pairs[1L, ]
    variance <- diag(joint)[first] + diag(joint)[second] - 2 * joint[cbind(first, second)]
    own <- x$labels[at[1L], setdiff(names(x$labels), c("contrast", "outcome")), drop = FALSE]
    contrast_rows(data.frame(own[rep(1L, ncol(pairs)), , drop = FALSE], outcome = x$effects[[at[1L]]]$outcome,
                             first = names[first], second = names[second], row.names = NULL),
                  estimate[first] - estimate[second], sqrt(pmax(variance, 0)), least_df(x$effects[at]), level)
  })
  do.call(rbind, unname(rows))
}

check_one_population <- function(x, call = rlang::caller_env()) {
  if (!"contrast" %in% names(x$labels)) {
    abort_input(c("There are not several arms here.", i = "See {.fn frame_arms}."), call = call)
  }
  estimand <- x$effects[[1L]]$estimand
  if (arms_share_population(estimand)) {
    if (speak_of_one_population(x)) return(invisible(x))
    abort_unsupported(c("Each comparison of arms speaks of the units that found a partner in it.",
                        i = "Weigh the arms, or group them into cells, to compare any two."), call = call)
  }
  abort_unsupported(c("Under the {estimand} each comparison of arms speaks of other units.",
                      i = "Frame the arms for the ATE, ATO or ATM to compare any two."), call = call)
}

# Pairs leave each contrast the units that found a partner in it.
speak_of_one_population <- function(x) {
  notes <- lapply(x$effects, function(effect) {
    design <- effect$source$block$x
    if (inherits(design, "twin_design")) design$note else if (is.null(design)) effect$note
  })
  arms_share_population(x$effects[[1L]]$estimand) && length(unique(notes)) == 1L
}

# Places of the effects that differ by arm alone.
arm_families <- function(x) {
  other <- x$labels[setdiff(names(x$labels), "contrast")]
  unname(split(seq_along(x$effects), if (ncol(other) > 0L) do.call(paste, other) else rep(1L, length(x$effects))))
}

# The reference first, whose difference from itself is 0 without error.
names_of_arms <- function(x, at) {
  c(x$effects[[at[1L]]]$study$levels[["control"]], vapply(x$effects[at], function(effect) {
    effect$study$levels[["treated"]]
  }, ""))
}

arms_vcov <- function(x, at) {
  joint <- differences_vcov(x, at)
  out <- matrix(0, length(at) + 1L, length(at) + 1L)
  out[-1L, -1L] <- joint
  out
}

# Are all arms alike? Per family the Wald test that no arm differs from the reference.
arms_test <- function(x, at) {
  estimate <- vapply(x$effects[at], function(effect) effect$estimate[["difference"]], 0)
  joint <- differences_vcov(x, at)
  if (anyNA(joint)) return(c(statistic = NA_real_, df = length(at), p.value = NA_real_))
  core_zero_test(estimate, joint, least_df(x$effects[at]))
}

# Places of the effects that differ by group alone.
effect_families <- function(x) {
  other <- x$labels[setdiff(names(x$labels), "group")]
  unname(split(seq_along(x$effects), if (ncol(other) > 0L) do.call(paste, other) else rep(1L, length(x$effects))))
}

differences_vcov <- function(x, at) {
  if (is.null(x$joint)) return(joint_vcov(x$effects[at], rep(list("difference"), length(at))))
  of <- rep(seq_along(x$effects), lengths(lapply(x$effects, `[[`, "estimate")))
  rows <- which(rownames(x$joint) == "difference" & of %in% at)
  x$joint[rows, rows, drop = FALSE]
}

#' @export
glance.twin_effects <- function(x, ...) {
  rlang::check_dots_empty()
  rows <- do.call(rbind, unname(lapply(x$effects, generics::glance)))
  cbind(x$labels[setdiff(names(x$labels), c("estimand", "outcome"))], rows)
}

#' @export
augment.twin_effects <- function(x, ...) {
  rlang::check_dots_empty()
  parts <- Map(function(effect, k) {
    cbind(x$labels[rep(k, length(effect$rows)), , drop = FALSE], generics::augment(effect))
  }, x$effects, seq_along(x$effects))
  parts <- lapply(parts, function(part) part[Reduce(intersect, lapply(parts, names))])
  out <- do.call(rbind, unname(parts))
  rownames(out) <- NULL
  out
}

#' @export
as.data.frame.twin_effects <- function(x, ...) generics::tidy(x)

#' @export
coef.twin_effects <- function(object, ...) coef_of_parts(object)

#' @export
vcov.twin_effects <- function(object, ...) {
  effects <- object$effects
  joint <- object$joint
  if (is.null(joint)) joint <- joint_vcov(effects, lapply(effects, function(effect) names(effect$estimate)))
  at <- rep(seq_along(effects), lengths(lapply(effects, `[[`, "estimate")))
  for (k in seq_along(effects)) joint[at == k, at == k] <- effects[[k]]$vcov
  dimnames(joint) <- list(term_keys(object), term_keys(object))
  joint
}

#' @export
nobs.twin_effects <- function(object, ...) {
  used <- lapply(object$effects, function(effect) effect$study$rows[effect$rows[effect$used]])
  length(unique(unlist(used)))
}

#' @export
confint.twin_effects <- function(object, parm = term_keys(object), level = object$level, ...) {
  rlang::check_dots_empty()
  limits_of_terms(generics::tidy(object, conf.level = level), term_keys(object), parm, level)
}
