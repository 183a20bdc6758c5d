# A source whose weights were estimated. A regression's contribution of a unit is its weight times what one more unit of
# that weight would move the estimate by, so that the derivative in every weight is contribution over weight: the
# estimation of the weights enters by one mechanism, whatever is estimated with them (core-nuisance.R).

# inner: the source with the weights as they are. carries: one per design whose weights were estimated, list(cells:
# which of the K cells it weighs (0/1; NULL for all), blocks: the same of the blocks whose sizes it weighs, unit: per
# row of the design its unit in the source; v: weights of these rows; nuisance: that of v).
core_carried_source <- function(inner, carries) {
  structure(list(inner = inner, carries = carries, block = inner$block, s = source_weight(inner)),
            class = "twin_carried_source")
}

#' @exportS3Method
core_contributions.twin_carried_source <- function(source, combine, shift = NULL) { # nolint: object_name_linter.
  out <- core_contributions(source$inner, combine, shift)
  for (carry in source$carries) {
    own <- if (is.null(carry$cells)) out else
      core_contributions(source$inner, combine * carry$cells, if (!is.null(shift)) shift * carry$blocks)
    own <- own[carry$unit, , drop = FALSE]
    for (j in which(colSums(own != 0) > 0)) {
      away <- ifelse(carry$v > 0, own[, j] / carry$v, 0)
      out[carry$unit, j] <- out[carry$unit, j] + core_carry(carry$nuisance)(away) / length(carry$v)
    }
  }
  out
}

#' @exportS3Method
core_units_in_use.twin_carried_source <- function(source) { # nolint: object_name_linter. An S3 method.
  sort(unique(c(core_units_in_use(source$inner), unlist(lapply(source$carries, `[[`, "unit")))))
}

#' @exportS3Method
core_cluster_sums.twin_carried_source <- function(source, combine, shift, cluster) { # nolint: object_name_linter.
  contributions <- core_contributions(source, combine, shift)
  if (is_own_cluster(cluster)) contributions else sums_on(contributions, cluster, max(cluster))
}

#' @exportS3Method
unit_squares.twin_carried_source <- function(source, combine, shift) { # nolint: object_name_linter. An S3 method.
  crossprod(core_contributions(source, combine, shift))
}

#' @exportS3Method
touched_terms.twin_carried_source <- function(source, h, combine) { # nolint: object_name_linter. An S3 method.
  touched_terms(source$inner, h, combine)
}

# Units that only helped to estimate the weights are no more of them.
#' @exportS3Method
core_count_in_use.twin_carried_source <- function(source) { # nolint: object_name_linter. An S3 method.
  core_count_in_use(source$inner)
}

# What is lent is a scatter of outcomes: the weights' own part stays with who made them.
#' @exportS3Method
lend_variance.twin_carried_source <- function(source, alone, combine, cluster, lenders) { # nolint: object_name_linter.
  lend_variance(source$inner, alone, combine, cluster, lenders)
}
