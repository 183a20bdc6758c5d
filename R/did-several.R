# Effects over time side by side: of the levels of a column (by), of kinds of treatment (panel$arms), or of both.

# effects: list of twin_did; labels: data frame of what tells them apart, `arm` and `group`; by: name of the column.
new_dids <- function(effects, labels, by, level) {
  names(effects) <- do.call(paste, c(unname(as.list(labels)), sep = ", "))
  structure(list(effects = effects, labels = labels, by = by, level = level), class = "twin_dids")
}

# given: arguments of measure_did() beside panel and by.
measure_several <- function(panel, by, given, call) {
  refuse_remote(panel, call)
  arms <- if (has_arms(panel)) panel_contrasts(panel, call) else list(panel)
  parts <- unlist(unname(Map(function(own, arm) {
    if (is.null(by)) return(list(list(arm = arm, group = "", panel = own)))
    groups <- said_of_part(arm, panel_groups(own, by, call))
    unname(Map(function(inside, group) {
      list(arm = arm, group = group, panel = panel_part(own, inside, c(by, group)))
    }, groups, names(groups)))
  }, arms, rlang::names2(arms))), recursive = FALSE)
  found <- lapply(parts, function(part) {
    named <- paste(c(part$arm, part$group)[nzchar(c(part$arm, part$group))], collapse = ", ")
    tryCatch(said_of_part(named, do.call(measure_did, c(list(part$panel), given))), twin_error = identity)
  })
  failed <- vapply(found, inherits, NA, "twin_error")
  if (all(failed)) rlang::cnd_signal(found[[1L]])
  labels <- data.frame(arm = vapply(parts, `[[`, "", "arm"), group = vapply(parts, `[[`, "", "group"))
  labels <- labels[vapply(labels, function(own) any(nzchar(own)), NA)]
  rownames(labels) <- NULL
  warn_unmeasured(labels[failed, , drop = FALSE], found[failed])
  new_dids(found[!failed], labels[!failed, , drop = FALSE], by, found[!failed][[1L]]$level)
}

# Warnings of a part say which it is.
said_of_part <- function(named, expr) {
  withCallingHandlers(expr, twin_warning = function(w) {
    if (isTRUE(w$of_part) || !nzchar(named)) return(invisible())
    w$message <- sprintf("In %s: %s", named, w$message)
    w$caution <- sprintf("In %s: %s", named, w$caution)
    w$of_part <- TRUE
    rlang::cnd_signal(w)
    rlang::cnd_muffle(w)
  })
}

warn_unmeasured <- function(labels, errors) {
  if (length(errors) == 0L) return(invisible())
  named <- do.call(paste, c(unname(as.list(labels)), sep = ", "))
  first <- sub("\n.*", "", cli::ansi_strip(conditionMessage(errors[[1L]])))
  warn_kind("thin_group", c("{length(named)} part{?s} can't be measured and {?is/are} left out: {.val {named}}.",
                            x = "{named[1L]}: {first}"), levels = named)
}

#' @exportS3Method
study_of.twin_dids <- function(x) study_of(x$effects[[1L]]) # nolint: object_name_linter. An S3 method.

#' @export
length.twin_dids <- function(x) length(x$effects)

#' @export
names.twin_dids <- function(x) names(unclass(x)$effects)

#' @export
`[[.twin_dids` <- function(x, i) part_called(unclass(x)$effects, i)

#' @export
tidy.twin_dids <- function(x, part = c("effects", "groups"), conf.level = x$level, # nolint: object_name_linter.
                           ...) {
  rlang::check_dots_empty()
  part <- check_choice(part, c("effects", "groups"))
  if (part == "groups") return(differences_of_parts(x, conf.level))
  tables <- lapply(x$effects, generics::tidy, conf.level = conf.level)
  shared <- Reduce(union, lapply(tables, names))
  tables <- lapply(tables, function(table) {
    table[setdiff(shared, names(table))] <- NA_real_
    table[shared]
  })
  keys <- x$labels[rep(seq_along(tables), vapply(tables, nrow, 0L)), , drop = FALSE]
  out <- cbind(keys, do.call(rbind, unname(tables)))
  rownames(out) <- NULL
  out
}

#' @export
as.data.frame.twin_dids <- function(x, ...) generics::tidy(x)

#' @export
glance.twin_dids <- function(x, ...) {
  rlang::check_dots_empty()
  out <- cbind(x$labels, do.call(rbind, unname(lapply(x$effects, generics::glance))))
  rownames(out) <- NULL
  out
}

#' @export
nobs.twin_dids <- function(object, ...) {
  length(unique(unlist(lapply(object$effects, function(effect) effect$study$rows))))
}

# Each part's numbers less those of the first that has them: of the number that leads where there are cells.
differences_of_parts <- function(x, level) {
  effects <- if (x$effects[[1L]]$over == "cells") summarise_did(x)$effects else x$effects
  terms <- unique(unlist(lapply(effects, function(effect) effect$table$term[effect$table$kind != "base"])))
  rows <- lapply(terms, function(term) {
    have <- which(vapply(effects, function(effect) {
      at <- match(term, effect$table$term)
      !is.na(at) && !is.na(effect$estimate[at]) && effect$table$kind[at] != "base"
    }, NA))
    if (length(have) < 2L) return(NULL)
    at <- lapply(effects[have], function(effect) match(term, effect$table$term))
    joint <- joint_of_parts(effects[have], at)
    estimate <- unname(unlist(Map(function(effect, at) effect$estimate[at], effects[have], at)))
    df <- unname(unlist(Map(function(effect, at) rep_len(effect$df, nrow(effect$table))[at], effects[have], at)))
    se <- sqrt(diag(joint)[-1L] + joint[1L, 1L] - 2 * joint[1L, -1L])
    contrast_rows(data.frame(term = term, first = names(effects)[have[-1L]], second = names(effects)[have[1L]]),
                  estimate[-1L] - estimate[1L], se, pmin(df[-1L], df[1L]), level)
  })
  do.call(rbind, rows)
}

# Covariance of terms of each part (their places are `at`): within parts it is their own, and parts covary by the
# clusters that hold units of both.
joint_of_parts <- function(effects, at) {
  clusters <- unique(unlist(lapply(effects, `[[`, "cluster_labels")))
  sums <- Map(function(effect, at) {
    shift <- if (!is.null(effect$shift)) effect$shift[, at, drop = FALSE]
    own <- core_cluster_sums(effect$source, effect$combine[, at, drop = FALSE], shift, effect$cluster)
    out <- matrix(0, length(clusters), length(at))
    out[match(effect$cluster_labels, clusters), ] <- own
    out
  }, effects, at)
  joint <- crossprod(do.call(cbind, unname(sums))) * length(clusters) / max(length(clusters) - 1, 1)
  part <- rep(seq_along(effects), lengths(at))
  for (k in seq_along(effects)) joint[part == k, part == k] <- effects[[k]]$vcov[at[[k]], at[[k]]]
  joint
}

#' @export
coef.twin_dids <- function(object, ...) coef_of_parts(object)

#' @export
vcov.twin_dids <- function(object, ...) {
  joint <- joint_of_parts(object$effects, lapply(object$effects, function(effect) seq_along(effect$estimate)))
  dimnames(joint) <- list(term_keys(object), term_keys(object))
  joint
}

#' @export
confint.twin_dids <- function(object, parm = term_keys(object), level = object$level, ...) {
  rlang::check_dots_empty()
  limits_of_terms(generics::tidy(object, conf.level = level), term_keys(object), parm, level)
}
