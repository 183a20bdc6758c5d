# Matches of everybody among more than two arms (Methods, "More than two arms"): each unit has its nearest in every
# other arm (pair_arms(); Yang et al. 2016), or sets hold units of all arms (group_whole_arms(); Savje, Higgins & Sekhon
# 2021).

# Do the verbs for two arms at a time not answer for these arms?
seeks_everybody <- function(x) is_arms(x) && population_of(x$base$estimand) == "everybody"

# Contrasts of several arms whose weights are such matches.
is_matched_arms <- function(x) isTRUE(weighing_of(x)$matched)

groups_whole_arms <- function(x) is_matched_arms(x) && !reuses_units(x)
pairs_every_arm <- function(x) is_matched_arms(x) && reuses_units(x)

# The units of arm j and all others, with the score of being in it: what partners in that arm are sought by.
arm_start <- function(x, j) {
  score <- if (!is.null(x$score)) {
    e <- x$score$fitted[, j]
    list(fitted = e, linear = stats::qlogis(e), link = "logit", known = TRUE)
  }
  new_design(amend(one_arm_study(x, j), logbook = NULL), list(verb = "score", label = ""), kind = "raw", score = score,
             kept = arms_weight(x) > 0)
}

# The code among all arms of the treated (1) or control (0) arm of a contrast.
code_in_arms <- function(x, arm) if (arm == 1L) arms_behind(x)$k else 1L

# settings: see pair_units(), but for calipers, which are worked out by arm.
pair_arms <- function(x, settings, caliper, unit, call = rlang::caller_env()) {
  check_labels_shared(x, settings$exact, call)
  starts <- lapply(seq_along(x$levels), function(j) arm_start(x, j))
  calipers <- lapply(starts, function(start) check_calipers(start, caliper, unit, settings$on, call))
  rounds <- lapply(seq_along(starts), function(j) {
    partners_in_arm(starts[[j]], c(settings, list(calipers = calipers[[j]])), j > 1L, call)
  })
  matches <- lapply(rounds, `[[`, "matches")
  inside <- in_every_arm(x, matches)
  reason <- Reduce(pmax, lapply(rounds, `[[`, "reason"))
  if (!any(inside)) stop_no_partners(x, reason, settings, calipers[[1L]], call)
  warn_short_of_partners(list(reason = reason[!inside]), settings$ratio)
  matches <- lapply(matches, function(found) found[inside[found$seeker], ])
  weight <- times_standing(inside, matches)
  settings$calipers <- calipers[[1L]]
  step <- c(pair_step(settings), weighing = "arm_pairs")
  step$label <- sub("^pairs", "pairs in every arm", step$label)
  made <- list(method = step$weighing, weight = weight, matches = matches, calipers = calipers, inside = inside,
               used = weight > 0, reason = ifelse(weight > 0, 0L, reason),
               note = everybody_note(x, inside, "with a partner in every arm"))
  designs <- lapply(compared_arms(x), function(k) arm_design(x, k, step, made, call))
  arms_with(x, designs, step, step[c("on", "exact", "ratio", "ties")])
}

# Of the units of all other arms: their matches (seeker, partner, distance, weight), and why the others have none.
partners_in_arm <- function(start, settings, quiet, call) {
  space <- pair_space(start, settings, call, quiet)
  labels <- exact_labels(start, settings$exact, call)
  if (!is.null(settings$apart)) check_column_names(settings$apart, study_of(start), "apart", call)
  apart <- lapply(settings$apart, apart_codes, x = start, call = call)
  found <- one_direction(start, 0L, space, settings, labels, apart, call)
  pairs <- found$pairs
  matches <- data.frame(seeker = pairs$control, partner = pairs$treated, distance = pairs$distance)
  matches$weight <- 1 / tabulate(matches$seeker)[matches$seeker]
  list(matches = matches, reason = found$reason * (study_of(start)$z == 0L))
}

# Who has a partner in every arm but its own.
in_every_arm <- function(x, matches) {
  n <- length(x$arm)
  has <- lapply(seq_along(matches), function(j) {
    x$arm == j | tabulate(matches[[j]]$seeker, n) > 0L
  })
  arms_weight(x) > 0 & Reduce(`&`, has)
}

# How often each unit stands for one: for itself where it is in, and for those who found it.
times_standing <- function(inside, matches) {
  of_all <- function(name) unlist(lapply(matches, `[[`, name))
  inside + core_sums_by(of_all("weight"), of_all("partner"), length(inside))
}

everybody_note <- function(x, inside, words) {
  all <- sum(arms_kept(x))
  if (sum(inside) < all) sprintf("those %s (%s of %s units)", words, count_text(sum(inside)), count_text(all))
}

# Values of the exact columns that every arm has.
check_labels_shared <- function(x, exact, call) {
  labels <- exact_labels(arm_start(x, 1L), exact, call)
  inside <- arms_weight(x) > 0
  if (is.null(exact) || length(Reduce(intersect, split(labels[inside], x$arm[inside]))) > 0L) return(invisible(labels))
  abort_input(c("No value of {.val {exact}} is found in every arm.", i = "Leave out columns of {.arg exact}."),
              columns = exact, call = call)
}

stop_no_partners <- function(x, reason, settings, calipers, call) {
  counts <- tabulate(reason, length(unmatched_reasons))
  why <- paste0(unmatched_reasons[counts > 0L], ": ", count_text(counts[counts > 0L]))
  abort_input(c("No unit has a partner in every arm.", x = "Of {length(x$arm)} units: {why}.",
                i = if (!is.null(calipers)) "Widen the caliper ({caliper_label(calipers)})." else
                  if (settings$ratio[["least"]] > 1L) "Ask for fewer partners ({.arg ratio})." else
                    "Leave out columns of {.arg exact} or {.arg apart}."), call = call)
}

# Sets of all arms: at least one unit of each, without a limit. asked: exact, caliper, unit.
group_whole_arms <- function(x, space_settings, asked, call) {
  settings <- c(space_settings, list(exact = asked$exact))
  if (is.null(asked$caliper)) asked$caliper <- list()
  starts <- lapply(seq_along(x$levels), function(j) arm_start(x, j))
  calipers <- lapply(starts, function(start) check_calipers(start, asked$caliper, asked$unit, settings$on, call))
  ground <- list(points = whole_space(x, settings, call)$points, labels = check_labels_shared(x, asked$exact, call),
                 starts = starts, calipers = calipers, inside = arms_weight(x) > 0)
  near <- nearest_in_arms(x, ground)
  set <- join_sets(core_arm_sets(near$row, near$distance), ground)
  inside <- !is.na(set)
  if (!any(inside)) {
    abort_input(c("No unit is near units of every other arm.",
                  i = "Widen the caliper ({caliper_label(calipers[[1L]])})."), call = call)
  }
  words <- c(on_label(settings$on), if (!is.null(asked$exact)) paste("exact on", and_list(asked$exact)),
             if (!is.null(calipers[[1L]])) caliper_label(calipers[[1L]]))
  step <- list(verb = "group", label = paste0("full matching of all arms", if (length(words) > 0L)
    sprintf(" (%s)", paste(words, collapse = ", "))), method = "full")
  step <- c(step, settings[!vapply(settings, is.null, NA)], list(calipers = calipers[[1L]]), weighing = "arm_sets")
  reason <- match(if (is.null(calipers[[1L]])) "no exact partner" else "nobody within the caliper", unmatched_reasons)
  made <- list(method = step$weighing, set = set, inside = inside, reason = reason * (ground$inside & !inside),
               note = everybody_note(x, inside, "in a set of all arms"))
  designs <- lapply(compared_arms(x), function(k) {
    arm_design(x, k, step, c(made, list(weight = standing_in_sets(x, k, set))), call)
  })
  arms_with(x, designs, step, step[c("method", "on", "exact")])
}

# In each set the units of arm k, and those of the reference, stand for all of the set.
standing_in_sets <- function(x, k, set) {
  s <- arms_weight(x)
  stand <- lapply(c(k, 1L), function(j) core_standing_weight(set, as.double(x$arm == j), as.double(!is.na(set)), s))
  ifelse(x$arm == k, stand[[1L]], stand[[2L]])
}

# The space in which sets are near: on the score, the chances of all arms at once, their logs about the mean of these
# logs, so that no arm is the one that others are measured from.
whole_space <- function(x, settings, call, quiet = FALSE) {
  e <- x$score$fitted
  switch(settings$on,
    score = list(points = log(e) - rowMeans(log(e))),
    probability = list(points = e),
    pair_space(arm_start(x, 1L), settings, call, quiet)
  )
}

# ground: points (n x p), labels of exact cells, inside (n: who is to be grouped), and by arm starts and calipers.
# Limits on the distance and on single columns; a caliper of the score holds for the linear score of every arm.
whole_problem <- function(ground, seekers, pool) {
  first <- ground$calipers[[1L]]
  limit_of <- function(j, name) {
    values <- caliper_values(ground$starts[[j]], name, rlang::caller_env())
    own <- ground$calipers[[j]]
    list(seekers = values[seekers], pool = values[pool], width = own$width[own$name == name])
  }
  limits <- unlist(lapply(setdiff(first$name, "distance"), function(name) {
    lapply(if (name == "score") seq_along(ground$starts) else 1L, limit_of, name = name)
  }), recursive = FALSE)
  cells <- ground$labels
  core_pair_problem(
    ground$points[seekers, , drop = FALSE], ground$points[pool, , drop = FALSE],
    caliper = min(first$width[first$name == "distance"], Inf), limits = as.list(limits),
    group = if (!is.null(cells)) list(seekers = cells[seekers], pool = cells[pool]),
    window = core_narrow_window(limits)
  )
}

# n x arms: the unit of each arm that is nearest (itself in its own; NA for nobody), and how far it is.
nearest_in_arms <- function(x, ground) {
  row <- matrix(NA_integer_, length(x$arm), length(x$levels))
  distance <- matrix(0, length(x$arm), length(x$levels))
  for (j in seq_along(x$levels)) {
    seekers <- which(ground$inside & x$arm != j)
    pool <- which(ground$inside & x$arm == j)
    row[pool, j] <- pool
    problem <- whole_problem(ground, seekers, pool)
    lists <- with_shares("Looking for neighbours", problem, function(tell) {
      core_nearest(problem, 1L, FALSE, thread_count(), tell = tell)
    })
    found <- diff(lists$start) > 0
    row[seekers[found], j] <- pool[lists$row]
    distance[seekers[found], j] <- lists$distance
  }
  list(row = row, distance = distance)
}

# Who is in no set yet joins that of the nearest unit that is in one; who finds nobody stays out.
join_sets <- function(set, ground) {
  seekers <- which(ground$inside & is.na(set))
  pool <- which(!is.na(set))
  if (length(seekers) == 0L || length(pool) == 0L) return(set)
  lists <- core_nearest(whole_problem(ground, seekers, pool), 1L, FALSE, thread_count())
  set[seekers[diff(lists$start) > 0]] <- set[pool[lists$row]]
  set
}

arm_sets_carry_score <- function(x) pairing_step(x)$on %in% c("score", "probability") && !score_behind(x)$known

# The score behind sets of all arms, as their weights' nuisance.
arm_set_nuisance <- function(design) {
  x <- arms_behind(design)$arms
  if (!arm_sets_carry_score(design)) return(core_known(length(x$arm)))
  s <- sampling_weight(design$study)
  weight <- s * design$weight
  basis <- arm_set_basis(design)
  core_matched_nuisance(arm_score_nuisance(x), s, weight, -arm_log_slope(x$score$fitted, x$arm),
                        function(y) core_spline_residual(y, basis, design$study$z, weight))
}

# Splines of the linear scores of all arms with knots at the thirds of those in sets; of other spaces their coordinates.
arm_set_basis <- function(design) {
  x <- arms_behind(design)$arms
  step <- pairing_step(design)
  if (!step$on %in% c("score", "probability")) {
    return(cbind(1, whole_space(x, step, rlang::caller_env(), quiet = TRUE)$points))
  }
  linear <- log(x$score$fitted[, -1L, drop = FALSE] / x$score$fitted[, 1L])
  inside <- design$weighing$inside
  bends <- lapply(seq_len(ncol(linear)), function(j) {
    core_spline_basis(linear[, j], stats::quantile(linear[inside, j], 1:2 / 3, names = FALSE))[, -(1:2)]
  })
  cbind(1, linear, do.call(cbind, bends))
}

# The matches in some arms (their codes; those of the contrast by default): seeker, arm, partner, distance, weight.
matches_of <- function(x, arms = NULL) {
  if (is.null(arms)) arms <- c(arms_behind(x)$k, 1L)
  found <- do.call(rbind, lapply(arms, function(j) {
    cbind(x$weighing$matches[[j]], arm = rep(arms_behind(x)$arms$levels[j], nrow(x$weighing$matches[[j]])))
  }))
  found[c("seeker", "arm", "partner", "distance", "weight")]
}

# What is left of such matches when some units are not counted (their outcome is unknown), the weights worked out anew:
# whoever keeps a partner in every arm, or sets that keep every arm, so that all contrasts still speak of the same.
# group: of whom (NULL for all). Returns list(weight, target: s of whom the estimand speaks of; stands: see
# core_match_means(), of pairs; set: codes, of sets).
measured_arms <- function(x, present, group) {
  behind <- arms_behind(x)
  arms <- behind$arms
  s <- arms_weight(arms)
  counted <- present & s > 0
  if (!is.null(x$set)) return(measured_arm_sets(x, arms, s * counted))
  matches <- lapply(x$weighing$matches, function(found) {
    found <- found[counted[found$seeker] & counted[found$partner] & (if (is.null(group)) TRUE else
      group[found$seeker]), ]
    found$weight <- 1 / tabulate(found$seeker)[found$seeker]
    found
  })
  inside <- x$weighing$inside & counted & in_every_arm(arms, matches) & (if (is.null(group)) TRUE else group)
  matches <- lapply(matches, function(found) found[inside[found$seeker], ])
  list(weight = times_standing(inside, matches), target = s * inside,
       stands = arm_stands(arms$arm, behind$k, matches, which(inside)))
}

# The rows of core_match_means() for arm k and the reference.
arm_stands <- function(arm, k, matches, seekers) {
  own <- lapply(c(k, 1L), function(j) seekers[arm[seekers] == j])
  of_both <- function(name, first) unlist(Map(c, first, lapply(matches[c(k, 1L)], `[[`, name)), use.names = FALSE)
  seeker <- of_both("seeker", own)
  data.frame(set = match(seeker, seekers), seeker = seeker, unit = of_both("partner", own),
             treated = rep(c(TRUE, FALSE), lengths(own) + vapply(matches[c(k, 1L)], nrow, 0L)),
             weight = of_both("weight", lapply(lengths(own), rep, x = 1)))
}

measured_arm_sets <- function(x, arms, s) {
  set <- x$set
  whole <- Reduce(intersect, split(set[s > 0], arms$arm[s > 0]))
  set <- match(set, whole[!is.na(whole)])
  set[s == 0] <- NA
  left <- amend(arms, kept = arms_kept(arms) & s > 0)
  list(weight = standing_in_sets(left, arms_behind(x)$k, set), target = s * !is.na(set), set = set)
}
