# Analytic standard errors: Methods, "Standard errors".

# list(vcov, df, text). clusters: list(codes, name), see effect_clusters().
# carried: function that gives the part of influence which the score carries into pairs and sets.
effect_vcov <- function(x, influence, units, clusters, lonely, call = rlang::caller_env(), carried = function() 0) {
  study <- study_of(x)
  codes <- lapply(clusters$codes, function(code) code[units$rows])
  for (k in seq_along(codes)) check_cluster_count(codes[[k]][units$asked], clusters$name[k], call, units$where)
  if (has_pairs(x)) return(set_vcov(x, influence, units, if (length(codes) > 0L) codes[[1L]], clusters$name, carried))
  if (length(codes) == 2L) return(two_way_vcov(influence, codes, clusters$name, units$asked))
  cluster <- if (length(codes) > 0L) codes[[1L]]
  stratum <- study$stratum[units$rows]
  out <- core_vcov(influence, cluster, stratum, units$asked, lonely)
  if (!is.null(out$lonely)) {
    stop_lonely(attr(study$stratum, "labels")[as.integer(out$lonely)], study, is.null(cluster), call)
  }
  by <- c(if (is.null(cluster)) "robust" else sprintf("clustered by %s (%d)", clusters$name, out$clusters),
          if (!is.null(stratum)) sprintf("within %s", study$roles$stratum),
          if (design_kind(x) == "strata" && has_likelihood_score(x)) "with the estimated score accounted for",
          if (groups_whole_arms(x) && arm_sets_carry_score(x)) "with the estimated score accounted for",
          if (!is.null(units$response)) "with the response weights accounted for")
  strata <- if (is.null(stratum)) 1L else length(unique(stratum[units$asked]))
  df <- if (is.null(cluster) && is.null(stratum)) Inf else core_known_df(out$clusters - strata)
  list(vcov = out$vcov, df = df, text = paste(by, collapse = ", "))
}

two_way_vcov <- function(influence, codes, name, used) {
  out <- core_vcov_two_way(influence, codes[[1L]], codes[[2L]], used)
  list(vcov = out$vcov, df = out$clusters - 1,
       text = sprintf("clustered two ways, by %s (%s)%s", and_list(name),
                      paste(vapply(codes, function(code) length(unique(code[used])), 0L), collapse = " and "),
                      if (out$raised) "; the larger one-way variance, since the two-way one is not positive" else ""))
}

# What the standard error takes as given, in words.
taken_as_given <- function(x, asked) {
  if (!inherits(x, "twin_design")) return(NULL)
  given <- c(
    if (score_is_given(x, estimators[[asked$estimator]])) "score", weighing_of(x)$given, if (trims(x)) "trimming",
    if (is_truncated(x)) "truncation", if (!is.null(asked$curve_model)) "models of the curves"
  )
  given_phrase(given)
}

given_phrase <- function(given) if (length(given) > 0L) sprintf("taking the %s as given", and_list(given))

score_is_given <- function(x, estimator) {
  if (is.null(score_behind(x))) return(FALSE)
  if (identical(estimator$learns, "always")) {
    source <- design_score(x)$settings$source
    return(!is.null(source) && !source %in% c("learners", "regression", "ladder"))
  }
  by_score <- if (has_weights(x)) weighing_of(x)$by_score else design_kind(x) == "raw" && estimator$by_score
  by_score && score_behind(x)$known
}

# list(codes, name): one entry per way of clustering, codes per study row. Named columns replace the study's own.
effect_clusters <- function(study, cluster, call = rlang::caller_env()) {
  if (is.null(cluster)) {
    return(list(codes = if (!is.null(study$cluster)) list(study$cluster) else list(), name = study$roles$cluster))
  }
  if (!is.character(cluster) || anyNA(cluster)) {
    abort_input("{.arg cluster} must name one or two columns in quotes.", call = call)
  }
  check_columns(cluster, study$data, call = call)
  codes <- lapply(cluster, function(name) {
    group_codes(study$data[[name]][study$rows], name, "cluster", study$rows, call)
  })
  list(codes = codes, name = cluster)
}

# of_units: are units not clustered?
stop_lonely <- function(strata, study, of_units, call) {
  abort_input(c(
    "A survey stratum must keep at least 2 {if (of_units) 'units' else 'clusters'}.",
    x = "{.val {study$roles$stratum}}: only one is left in {.val {strata}}.",
    i = "Merge strata, or use {.code lonely_stratum = \"centre\"} to centre it on the grand mean."
  ), strata = strata, call = call)
}

# The joint covariance of single terms of several effects on the same data: each one's own variance, and the correlation
# of their influence contributions. Those are summed within the study's clusters, or on the rows of matched sets, or
# stand for themselves; where effects differ in that the lower correlation counts, which makes their difference less
# certain. Effects of one matching with replacement add what repeated use of a unit adds to all of them; NA beside other
# such effects, which have no influence contributions.
# terms: per effect the names of its terms.
joint_vcov <- function(effects, terms) {
  if (inherits(effects[[1L]], "twin_remote_effect")) return(remote_joint_vcov(effects, terms))
  if (is_pooled(effects[[1L]])) return(pooled_joint_vcov(effects, terms))
  of <- rep(seq_along(effects), lengths(terms))
  contributions <- do.call(cbind, Map(row_contributions, effects, terms))
  one_match <- share_matches(effects)
  if (one_match) contributions <- rbind(contributions, do.call(cbind, Map(reuse_contributions, effects, terms)))
  structures <- lapply(effects, row_structure)
  distinct <- unique(structures)
  correlations <- lapply(distinct, function(code) correlation_of(core_vcov(contributions * nrow(contributions), code)))
  kind <- match(structures, distinct)
  sets <- vapply(structures, function(code) !is.null(code), NA)
  joint <- outer(seq_along(of), seq_along(of), Vectorize(function(a, b) {
    i <- of[a]
    j <- of[b]
    # a set holds single units, not the other way round
    asked <- if (sets[i] == sets[j]) unique(c(kind[i], kind[j])) else kind[if (sets[i]) i else j]
    min(vapply(correlations[asked], function(r) r[a, b], 0))
  }))
  se <- sqrt(unlist(Map(function(effect, terms) diag(effect$vcov)[terms], effects, terms)))
  joint <- joint * outer(se, se)
  reuse <- vapply(effects, `[[`, NA, "reuse")[of]
  if (!one_match) joint[outer(reuse, reuse, `|`)] <- NA
  diag(joint) <- se^2
  joint
}

# Are they all of the same matches with replacement: of one design, or of the contrasts of the same arms?
share_matches <- function(effects) {
  if (!all(vapply(effects, function(effect) !is.null(effect$reused), NA))) return(FALSE)
  made_by <- lapply(effects, function(effect) {
    design <- effect$source$block$x
    if (is_matched_arms(design)) arms_behind(design)$arms$hash else design$hash
  })
  length(unique(made_by)) == 1L
}

reuse_contributions <- function(effect, terms) {
  out <- matrix(0, nrow(effect$study$data), length(terms))
  out[effect$study$rows, ] <- effect$reused[, terms]
  out
}

correlation_of <- function(out) {
  size <- sqrt(diag(out$vcov))
  ifelse(outer(size, size) > 0, out$vcov / outer(size, size), 0)
}

# Which rows of the data belong together: clusters, else matched sets whose influence is summed, else NULL.
row_structure <- function(effect) UseMethod("row_structure")

#' @exportS3Method
row_structure.twin_effect <- function(effect) { # nolint: object_name_linter. An S3 method.
  study <- effect$study
  codes <- if (length(effect$clusters) > 0L) effect$clusters[[1L]] else if (!effect$by_unit) effect$sets
  if (is.null(codes)) return(NULL)
  n <- nrow(study$data)
  out <- -seq_len(n)  # rows outside stand alone
  inside <- !is.na(codes)
  out[study$rows[inside]] <- codes[inside]
  out
}

# Influence / n on all rows of the data, so that effects on different units line up.
row_contributions <- function(effect, terms) UseMethod("row_contributions")

#' @exportS3Method
row_contributions.twin_effect <- function(effect, terms) { # nolint: object_name_linter. An S3 method.
  out <- matrix(0, nrow(effect$study$data), length(terms))
  out[effect$study$rows[effect$rows], ] <- effect$influence[, terms] / length(effect$rows)
  out
}
