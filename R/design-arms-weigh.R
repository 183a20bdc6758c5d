# Weights of more than two arms: each arm is made to stand for the population of the estimand, which is everybody,
# those in the arm compared, those in the reference, or those whom the scores of all arms choose (Methods, "More than
# two arms").

# How weigh_units() weighs arms. weighing: the entry in `weighings`; scored: does it need a score? answers: function of
# an estimand's name; details: words for the label; stand: function(x, j, target, asked, call) giving what makes the
# units of arm j stand for the target (n, indicators): list(weight: n, and what the nuisance needs). NULL where the
# weights of all arms come from the score at once.
new_arm_method <- function(weighing, scored = FALSE, arguments = character(), answers = function(estimand) TRUE,
                           details = function(asked) NULL, stand = NULL) {
  list(weighing = weighing, scored = scored, arguments = arguments, answers = answers, details = details, stand = stand)
}

arm_methods <- list(
  inverse = new_arm_method("arms", scored = TRUE, answers = function(e) !is.null(estimands[[e]]$arms)),
  entropy = new_arm_method(
    "arm_entropy", arguments = c("moments", "interactions"), answers = function(e) has_known_population(e),
    details = function(asked) moment_details(asked),
    stand = function(x, j, target, asked, call) stand_by_moments(x, j, target, asked, call)
  ),
  own = new_arm_method(
    "arm_own", arguments = "weight", details = function(asked) asked$weight,
    stand = function(x, j, target, asked, call) list(weight = own_arm_weights(x, asked$weight, call) * (x$arm == j))
  )
)

weigh_arms <- function(x, given, asked, call = rlang::caller_env()) {
  check_arms_undesigned(x, "weigh_units", call)
  method <- check_arm_method(asked, given, call)
  entry <- arm_methods[[method]]
  check_arms_estimand(x$base$estimand, method, call)
  if (entry$scored) check_arms_scored(x, "weigh_units", call)
  refuse_stray(setdiff(given, c("x", "method", "truncate", entry$arguments)),
               cli::format_inline("{.code method = \"{method}\"} of more than two arms"), call = call)
  if ("moments" %in% entry$arguments) check_moments(asked$moments, call)
  truncate <- check_truncate(asked$truncate, call)
  details <- c(x$base$estimand, entry$details(asked), if (!is.null(truncate)) "truncated")
  step <- list(verb = "weigh", label = sprintf("%s (%s)", weighings[[entry$weighing]]$words,
                                               paste(details, collapse = ", ")),
               method = method, weighing = entry$weighing, truncate = truncate)
  step <- c(step, asked[entry$arguments])
  designs <- if (is.null(entry$stand)) {
    lapply(compared_arms(x), function(k) {
      arm_design(x, k, step, list(method = entry$weighing, weight = inverse_arm_weights(x, k)), call, truncate)
    })
  } else {
    standing_designs(x, step, list(method = entry$weighing), call, truncate = truncate,
                     stand = function(j, target) entry$stand(x, j, target, asked, call))
  }
  arms_with(x, designs, step, step[setdiff(names(step), c("verb", "label", "weighing"))])
}

check_arm_method <- function(asked, given, call) {
  if (!is.null(asked$weight)) return(check_own_method(asked$method, !"method" %in% given, call))
  if (is.character(asked$method) && asked$method %in% setdiff(names(weighings), names(arm_methods))) {
    abort_unsupported(c("{.code method = \"{asked$method}\"} is for two arms.",
                        i = "More than two are weighed by {.or {.val {names(arm_methods)}}}."), call = call)
  }
  method <- check_choice(asked$method, names(arm_methods), "method", call)
  if (identical(arm_methods[[method]]$arguments, "weight")) {
    abort_input("{.code method = \"{method}\"} needs {.arg weight}, the name of a column.", call = call)
  }
  method
}

check_arms_estimand <- function(estimand, method, call) {
  known <- Filter(arm_methods[[method]]$answers, names(estimands))
  if (estimand %in% known) return(invisible(estimand))
  abort_unsupported(c("{.code method = \"{method}\"} can't answer the {estimand} of more than two arms.",
                      i = "Frame the arms for {.or {.val {known}}}."), call = call)
}

inverse_arm_weights <- function(x, k) core_arm_weight(x$score$fitted, x$arm, k, x$base$estimand)$weight

# The designs of all contrasts. stand: function(j, target), see new_arm_method(); inside: who is in; more: facts of the
# weighing. Where the population is the same in all of them, so are the reference's weights.
standing_designs <- function(x, step, more, call, stand, inside = arms_kept(x), truncate = NULL) {
  estimand <- x$base$estimand
  reference <- NULL
  lapply(compared_arms(x), function(k) {
    target <- standing_target(x, k, inside)
    own <- stand_for(x, k, target, stand)
    if (is.null(reference) || !arms_share_population(estimand)) reference <<- stand_for(x, 1L, target, stand)
    weight <- ifelse(x$arm == k, own$weight, reference$weight)
    arm_design(x, k, step, c(more, list(weight = weight, parts = list(treated = own, control = reference),
                                        inside = inside)), call, truncate)
  })
}

# Whom the contrast of arm k speaks of, 0/1. Populations that the score chooses have no moments or cells to stand for;
# what weighs for them (own weights) asks no target.
standing_target <- function(x, k, inside) {
  if (!has_known_population(x$base$estimand)) return(NULL)
  core_arm_target(NULL, x$arm, k, x$base$estimand)$h * inside
}

# An arm that is the target stands for itself.
stand_for <- function(x, j, target, stand) {
  if (!is.null(target) && all(x$arm[target > 0] == j)) return(list(weight = as.double(x$arm == j), itself = TRUE))
  stand(j, target)
}

# Everybody, those in the reference and tilted populations are the same in every contrast; those in the arm compared
# are not.
arms_share_population <- function(estimand) population_of(estimand) != "treated"

# The two-arm design of arm k against the reference. made: the weights and what the nuisance and prints need.
arm_design <- function(x, k, step, made, call, truncate = NULL) {
  study <- amend(arm_study(x, k, whole = TRUE), logbook = NULL)
  inside <- if (is.null(made$inside)) arms_kept(x) else made$inside
  kept <- !study$outside & (if (is.null(made$used)) inside else made$used)
  weight <- ifelse(kept, made$weight, 0)
  check_finite_weights(weight, study, call)
  limits <- truncation_limits(weight, truncate, study$z, study$s * kept)
  cut <- truncate_weights(weight, limits, study$z) * kept
  facts <- c(made[setdiff(names(made), c("weight", "used", "reason", "note", "set"))],
             list(arms = x, k = k, free = cut == weight, truncation = truncation_counts(weight, cut, limits, study$z)))
  design <- new_design(study, step, kind = "weights", kept = kept, weight = cut, set = made$set, weighing = facts,
                       steps = c(x$steps, list(step)), reason = made$reason,
                       note = c(arms_note_of(x), made$note))
  warn_heavy_units(design)
  design
}

# Whom trimming has left, in words.
arms_note_of <- function(x) if (!all(arms_kept(x))) trimming_of(x)$note

# The arms behind such a design, and the code of the one compared.
arms_behind <- function(x) x$weighing[c("arms", "k")]

# The design's score, or that of all arms.
score_behind <- function(x) if (is.null(study_of(x)$outside)) design_score(x) else arms_behind(x)$arms$score

# Sampling weights of the units of all arms among whom the target of such a design lies.
everybody_behind <- function(x) {
  arms <- x$weighing$arms
  sampling_weight(arms$base) * (if (is.null(x$weighing$inside)) arms_kept(arms) else x$weighing$inside)
}

arm_weight_nuisance <- function(design) {
  facts <- design$weighing
  x <- facts$arms
  slope <- core_arm_weight(x$score$fitted, x$arm, facts$k, x$base$estimand)$slope
  core_scaled(arm_score_nuisance(x), slope)
}

# What both arms' standing in adds: nuisance(x, j, target, part) of each that does not stand for itself.
standing_nuisance <- function(design, nuisance) {
  facts <- design$weighing
  x <- facts$arms
  target <- standing_target(x, facts$k, facts$inside)
  codes <- list(treated = facts$k, control = 1L)
  estimated <- Filter(function(role) is.null(facts$parts[[role]]$itself), names(codes))
  core_joined(unname(lapply(estimated, function(role) nuisance(x, codes[[role]], target, facts$parts[[role]]))))
}

# Entropy weights (Hainmueller 2012) of one arm towards the target's moments.
stand_by_moments <- function(x, j, target, asked, call) {
  moments <- moment_matrix(x$base, asked$moments, asked$interactions, FALSE, call)
  arm <- as.double(x$arm == j)
  s <- arms_weight(x)
  fit <- core_balance_arm(moments, s, arm, target)
  check_balanced(fit, moments, s, arm, sprintf("\"%s\"", x$levels[j]), x$base, NULL, call)
  c(fit[c("coefficients", "covariance", "weight", "active")], asked[c("moments", "interactions")])
}

arm_moment_nuisance <- function(design) {
  standing_nuisance(design, function(x, j, target, part) {
    moments <- moment_matrix(x$base, part$moments, part$interactions, FALSE, rlang::caller_env())
    core_entropy_nuisance(moments, arms_weight(x), as.double(x$arm == j), target, part)
  })
}

own_arm_weights <- function(x, name, call) {
  study <- x$base
  check_string(name, arg = "weight", call = call)
  check_columns(name, study$data, "weight", call)
  values <- study$data[[name]][study$rows]
  kept <- arms_kept(x)
  checked <- check_weight(values[kept], name, study$z[kept], study$levels, study$rows[kept], call)
  for (j in seq_along(x$levels)) {
    if (sum(values[kept & x$arm == j]) == 0) {
      abort_input("All weights in {.val {name}} are 0 in the arm {.val {x$levels[j]}}.", column = name, call = call)
    }
  }
  replace(numeric(length(kept)), kept, checked)
}

# Strata within each contrast, or of everybody.
arm_strata <- function(x, strata, breaks_on, called, call = rlang::caller_env()) {
  if (population_of(x$base$estimand) != "everybody") {
    return(in_each_contrast(x, "stratify", called, call))
  }
  refuse_stray(if (!is.null(breaks_on)) "breaks_on", "strata of everybody among more than two arms", call = call)
  stratify_arms(x, strata, call)
}

# Strata of everybody (Hong 2012): each arm is cut by the chance of being in it, and a stratum's units of the arm stand
# for all of the stratum.
stratify_arms <- function(x, strata, call = rlang::caller_env()) {
  check_arms_scored(x, "stratify_units", call)
  check_arms_undesigned(x, "stratify_units", call)
  check_count(strata, min = 2, max = 1000, call = call)
  s <- arms_weight(x)
  step <- list(verb = "stratify", weighing = "arm_strata", strata = strata,
               label = sprintf("%d strata of each arm's chance", as.integer(strata)))
  designs <- standing_designs(x, step, list(method = step$weighing), call, function(j, target) {
    e <- x$score$fitted[, j]
    own <- x$arm == j
    breaks <- distinct_breaks(core_weighted_quantiles(e[s > 0], s[s > 0], seq_len(strata - 1L) / strata), max(e[s > 0]),
                              strata, "all", call)
    cell <- findInterval(e, breaks, left.open = TRUE) + 1L
    cell[s == 0] <- NA_integer_
    check_arm_strata(cell[own & s > 0], c(0, breaks, 1), x$levels[j], call)
    list(weight = core_standing_weight(cell, as.double(own), target, s), cell = cell)
  })
  arms_with(x, designs, step, list(strata = strata))
}

check_arm_strata <- function(cell, ends, level, call) {
  empty <- setdiff(seq_len(length(ends) - 1L), cell)
  if (length(empty) == 0L) return(invisible(cell))
  k <- empty[1L]
  abort_input(c(
    "Every stratum must hold units of the arm whose chance it is cut by.",
    x = "Stratum {k} of {.val {level}}, chances from {score_range_text(ends[k], ends[k + 1L])}, has
         none{if (length(empty) > 1L) paste0('; ', length(empty) - 1L, ' more are empty')}.",
    i = "Use fewer {.arg strata}, or {.fn trim_units} first."
  ), stratum = k, arm = level, call = call)
}

# The totals of the strata and, with a score by maximum likelihood, the score: in the limit inverse weights on what is
# left about the mean of arm and stratum, as for two arms.
arm_strata_nuisance <- function(design) {
  s <- arms_weight(design$weighing$arms)
  standing_nuisance(design, function(x, j, target, part) {
    own <- as.double(x$arm == j)
    totals <- core_standing_nuisance(part$cell, own, target, s)
    if (isTRUE(x$score$known)) return(totals)
    weight <- s * part$weight
    linear <- stats::qlogis(x$score$fitted[, j])
    core_joined(list(totals, core_matched_nuisance(
      arm_score_nuisance(x), s, weight, -arm_log_slope(x$score$fitted, j),
      function(y) core_cell_residual(y, linear, part$cell, own, weight)
    )))
  })
}

# Exact and coarsened sets of all arms: cells that hold each of them.
group_arms <- function(x, method, covariates, bins, call = rlang::caller_env()) {
  estimand <- x$base$estimand
  if (!has_known_population(estimand)) check_group_estimand(method, estimand, call)
  start <- if (is.null(x$kept)) x$base else
    new_design(x$base, list(verb = "trim", label = "trimmed"), kind = "raw", kept = x$kept)
  found <- cells_of(start, method, covariates, bins, call)
  s <- arms_weight(x)
  present <- Reduce(intersect, lapply(seq_along(x$levels), function(j) found$code[s > 0 & x$arm == j]))
  if (length(present) == 0L) {
    abort_input(c("No cell holds units of all {length(x$levels)} arms.",
                  x = "The {length(found$names)} covariates make {length(unique(found$code[s > 0]))} cells of
                       {sum(s > 0)} units.", i = "Use fewer covariates or wider bins."), call = call)
  }
  inside <- s > 0 & found$code %in% present
  cell <- replace(match(found$code, present), !inside, NA_integer_)
  step <- list(verb = "group", label = cell_label(method, covariates, found$names), method = method,
               covariates = covariates, bins = bins)
  out <- sum(arms_kept(x) & !inside)
  note <- if (out > 0L) sprintf("those in cells that all arms share (%s of %s units)", count_text(sum(inside)),
                                count_text(sum(arms_kept(x))))
  more <- list(method = "arm_cells", bins = found$bins, reason = 2L * (arms_kept(x) & !inside), note = note)
  designs <- standing_designs(x, step[!vapply(step, is.null, NA)], more, call, inside = inside,
                              stand = function(j, target) {
    list(weight = core_standing_weight(cell, as.double(x$arm == j), target, s), cell = cell)
  })
  arms_with(x, designs, step, step[c("method", "covariates", "bins")])
}

arm_cell_nuisance <- function(design) {
  standing_nuisance(design, function(x, j, target, part) {
    core_standing_nuisance(part$cell, as.double(x$arm == j), target, arms_weight(x))
  })
}
