# From settings to pairs: who seeks, whom they may have, whom they get, and why the others get nobody.

# Returns list(pairs, reason): the table of pairs_of() in study rows, and per study row why it is out (0 for units that
# are in, or were out before; see unmatched_reasons).
make_pairs <- function(x, settings, call = rlang::caller_env()) {
  space <- pair_space(x, settings, call)
  study <- study_of(x)
  labels <- exact_codes(x, settings$exact, call)
  if (!is.null(settings$apart)) check_column_names(settings$apart, study_of(x), "apart", call)
  apart <- lapply(settings$apart, apart_codes, x = x, call = call)
  rounds <- lapply(seeking_arms(study$estimand), function(arm) {
    one_direction(x, arm, space, settings, labels, apart, call)
  })
  pairs <- do.call(rbind, lapply(rounds, `[[`, "pairs"))
  pairs <- pairs[order(if (treated_seek(study)) pairs$treated else pairs$control, pairs$seeker), ]
  pairs$set <- match(pairs$seeker, unique(pairs$seeker))
  pairs$weight <- core_row_weights(pairs$set, pairs$treated, pairs$control, "seeker")
  rownames(pairs) <- NULL
  list(pairs = pairs[c("set", "treated", "control", "distance", "weight", "seeks")],
       reason = Reduce(pmax, lapply(rounds, `[[`, "reason")))
}

# Are treated units among those who look for partners?
treated_seek <- function(study) 1L %in% seeking_arms(study$estimand)

unmatched_reasons <- c("not needed", "no exact partner", "nobody within the caliper", "only units to be kept apart",
                       "partners ran out", "too few partners left")

# Seekers of one arm.
one_direction <- function(x, arm, space, settings, labels, apart, call) {
  z <- study_of(x)$z
  kept <- design_kept(x)
  seekers <- which(kept & z == arm)
  pool <- which(kept & z != arm)
  problem <- pair_problem(x, space, settings, labels, apart, seekers, pool)
  found <- find_partners(x, problem, settings, arm, seekers, call)
  matched <- unique(found$seeker)
  reason <- integer(length(z))
  reason[pool[-found$unit]] <- 1L
  if (length(found$unit) == 0L) reason[pool] <- 1L
  lost <- setdiff(seq_along(seekers), matched)
  reason[seekers[lost]] <- reasons_of(problem, lost, found$few)
  sought <- found$unit
  list(
    pairs = data.frame(
      seeker = seekers[found$seeker], seeks = rep(arm == 1L, length(found$seeker)),
      treated = if (arm == 1L) seekers[found$seeker] else pool[sought],
      control = if (arm == 1L) pool[sought] else seekers[found$seeker],
      distance = core_distance(problem$seekers[found$seeker, , drop = FALSE], problem$pool[sought, , drop = FALSE])
    ),
    reason = reason
  )
}

pair_problem <- function(x, space, settings, labels, apart, seekers, pool) {
  calipers <- settings$calipers
  own <- c("distance", if (settings$on == "score") "score")  # the score's caliper is then one on the distance
  distance <- calipers$width[calipers$name %in% own]
  others <- calipers[!calipers$name %in% own, ]
  limits <- lapply(seq_len(NROW(others)), function(k) {
    values <- caliper_values(x, others$name[k], rlang::caller_env())
    list(seekers = values[seekers], pool = values[pool], width = others$width[k])
  })
  core_pair_problem(
    space$points[seekers, , drop = FALSE], space$points[pool, , drop = FALSE],
    caliper = if (length(distance) > 0L) min(distance) else Inf, limits = limits,
    apart = lapply(apart, function(codes) list(seekers = codes[seekers], pool = codes[pool])),
    group = if (!is.null(labels)) list(seekers = labels[seekers], pool = labels[pool]),
    window = core_narrow_window(limits)
  )
}

# list(seeker, unit, few): places among seekers and pool, pair by pair; few: seekers who found some, but fewer than the
# least.
find_partners <- function(x, problem, settings, arm, seekers, call) {
  if (settings$replacement) {
    lists <- with_shares("Looking for neighbours", problem, function(tell) {
      core_nearest(problem, settings$ratio[["most"]], settings$ties == "all", thread_count(), tell = tell)
    })
    if (lists$too_many) stop_ties(call)
    count <- diff(lists$start)
    found <- list(seeker = rep(seq_along(count), count), unit = lists$row)
  } else {
    title <- if (seeks_dense(problem, settings)) "Pairing (many seek few: all distances count)" else "Pairing"
    partners <- with_shares(title, problem, function(tell) search_partners(x, problem, settings, arm, seekers, tell))
    if (is.null(partners)) stop_too_large(call)
    count <- rowSums(!is.na(partners))
    found <- list(seeker = rep(seq_along(count), count), unit = t(partners)[t(!is.na(partners))])
  }
  enough <- count[found$seeker] >= settings$ratio[["least"]]
  list(seeker = found$seeker[enough], unit = found$unit[enough],
       few = which(count > 0 & count < settings$ratio[["least"]]))
}

# Optimal pairs on covariates look at nearly all distances where partners are scarce.
seeks_dense <- function(problem, settings) {
  settings$search == "optimal" && ncol(problem$seekers) > 1L &&
    settings$ratio[["most"]] * nrow(problem$seekers) > 0.7 * nrow(problem$pool)
}

search_partners <- function(x, problem, settings, arm, seekers, tell) {
  ratio <- settings$ratio
  if (settings$search == "optimal") {
    return(core_pair_optimal(problem, ratio[["least"]], ratio[["most"]], thread_count(), tell))
  }
  score <- x$score$linear[seekers]
  difficulty <- if (is.null(score)) seq_along(seekers) else if (arm == 1L) score else -score
  turn <- if (settings$order == "shuffled") with_own_seed(settings$seed, sample.int(length(seekers)))
  core_pair_greedy(problem, settings$order, difficulty, ratio[["most"]], turn, tell)
}

# Per seeker: is there anybody it may have?
have_candidates <- function(problem) diff(core_nearest(problem, 1L, FALSE, thread_count())$start) > 0

# Codes into unmatched_reasons for the seekers at `lost`.
reasons_of <- function(problem, lost, few) {
  if (length(lost) == 0L) return(integer())
  asked <- core_subproblem(problem, lost)
  allowed <- have_candidates(asked)
  together <- asked
  together$apart <- list()
  near <- if (length(problem$apart) == 0L) allowed else have_candidates(together)
  exact <- if (asked$groups == 1L) rep(TRUE, length(lost)) else asked$seeker_group %in% asked$pool_group
  ifelse(lost %in% few, 6L, ifelse(allowed, 5L, ifelse(near, 4L, ifelse(exact, 3L, 2L))))
}

# One code per combination of values of the exact columns; NULL when there are none.
exact_codes <- function(x, exact, call = rlang::caller_env()) {
  codes <- exact_labels(x, exact, call)
  z <- study_of(x)$z
  kept <- design_kept(x)
  if (!is.null(codes) && length(intersect(codes[kept & z == 1L], codes[kept & z == 0L])) == 0L) {
    abort_input(c("No treated and control unit agree on {.val {exact}}.", i = "Leave out columns of {.arg exact}."),
                columns = exact, call = call)
  }
  codes
}

exact_labels <- function(x, exact, call = rlang::caller_env()) {
  if (is.null(exact)) return(NULL)
  study <- study_of(x)
  check_column_names(exact, study, "exact", call)
  values <- lapply(exact, function(name) {
    column <- study$data[[name]][study$rows]
    absent <- which(is.na(column) & design_kept(x))
    if (length(absent) > 0L) {
      abort_input(c(
        "{.arg exact} columns must have no missing values.",
        x = "{.val {name}} has {length(absent)}; first rows: {first_rows(study$rows[absent])}.",
        i = "Fill them in with a level of their own, or leave those rows out with {.arg subset}."
      ), column = name, rows = study$rows[absent], call = call)
    }
    match(column, unique(column))
  })
  codes <- Reduce(core_group_codes, values)
  match(codes, unique(codes))
}

# A missing value differs from every other: codes below 0, one each.
apart_codes <- function(x, name, call = rlang::caller_env()) {
  study <- study_of(x)
  check_column_names(name, study, "apart", call)
  column <- study$data[[name]][study$rows]
  codes <- match(column, unique(column))
  absent <- is.na(column)
  codes[absent] <- -seq_len(sum(absent))
  codes
}

check_column_names <- function(names, study, arg, call) {
  if (!is.character(names) || length(names) == 0L || anyNA(names)) {
    abort_input(c("{.arg {arg}} must be names of columns in quotes, one at least.",
                  x = "It is {describe_value(names)}."), call = call)
  }
  check_columns(names, study$data, arg, call)
}

# Long searches tell how far they are; short ones say nothing. work: a function of what is told the share done, or NULL.
with_shares <- function(title, problem, work) {
  if (nrow(problem$seekers) * as.double(nrow(problem$pool)) < 1e7) return(work(NULL))
  show_progress(title, steps = 100L, work = function(tick) {
    shown <- 0
    work(function(share) {
      while (shown < floor(100 * share)) {
        shown <<- shown + 1
        tick()
      }
    })
  })
}

stop_ties <- function(call) {
  abort_unsupported(c("The units tie so much that all of them can't be listed as partners of each other.",
                      i = "Use {.code ties = \"first\"}, or {.code group_units(x, \"exact\")}."), call = call)
}

stop_too_large <- function(call) {
  abort_unsupported(c("This search would need more memory than it should: too many units compete for partners.",
                      i = "Set or narrow a {.arg caliper}, name {.arg exact} columns, or use
                           {.code search = \"greedy\"}."), call = call)
}

stop_no_pairs <- function(x, settings, made, call = rlang::caller_env()) {
  study <- study_of(x)
  kept <- design_kept(x)
  seeks <- kept & study$z == as.integer(treated_seek(study))
  why <- table(factor(unmatched_reasons[made$reason[seeks & made$reason > 0L]], unmatched_reasons))
  why <- why[why > 0L]
  linear <- x$score$linear[kept]
  z <- study$z[kept]
  gap <- if (is.null(linear)) 0 else
    max(min(linear[z == 1L]) - max(linear[z == 0L]), min(linear[z == 0L]) - max(linear[z == 1L]))
  abort_input(c(
    "No pair is left: {pair_label(settings)}.",
    x = paste(paste0(count_text(why), " ", names(why)), collapse = "; "),
    x = if (gap > 0) "The arms' linear scores do not overlap: the gap is {format(gap, digits = 3)}.",
    i = "Widen the caliper, ask for less, or look at {.fn assess_overlap} first."
  ), reasons = why, call = call)
}

# made: list(pairs, reason). verb: "pair" or "group".
design_from_pairs <- function(x, made, step, verb, kind = "pairs") {
  study <- study_of(x)
  pairs <- made$pairs
  n <- length(study$z)
  weight <- core_pair_weights(pairs, n)
  inside <- weight > 0
  design <- new_design(x, step, kind = kind, kept = inside, weight = weight, set = only_set(pairs, n), pairs = pairs,
                       note = pair_note(study, inside, design_kept(x)),
                       reason = made$reason * design_kept(x) * !inside)
  alone <- function(arm) sum(study$z == arm & design_kept(x) & !inside)
  log_design(design, verb, sprintf("%d sets, %d pairs; without a partner: %d treated, %d control",
                                   length(unique(pairs$set)), nrow(pairs), alone(1L), alone(0L)),
             step[setdiff(names(step), c("verb", "label"))], if (is.null(step$seed)) NA_integer_ else step$seed)
}

# The set of a unit that is in one; NA for the others.
only_set <- function(pairs, n) {
  rows <- c(pairs$treated, pairs$control)
  sets <- rep(pairs$set, 2L)
  first <- !duplicated(rows)
  set <- rep(NA_integer_, n)
  set[rows[first]] <- sets[first]
  several <- unique(rows[sets != set[rows]])
  set[several] <- NA_integer_
  set
}

# Whom the effect speaks of when not everybody it is for found a partner.
pair_note <- function(study, inside, kept) {
  arms <- seeking_arms(study$estimand)
  names(arms) <- ifelse(arms == 1L, "treated", "control")
  count <- function(units) vapply(arms, function(arm) sum(study$z == arm & units), 0L)
  partner_note(study$estimand, count(kept & inside), count(kept))
}

# From counts by arm; only the arms that the estimand speaks of are told of.
partner_note <- function(estimand, size, before) {
  arms <- c("control", "treated")[1L + seeking_arms(estimand)]
  if (all(size[arms] == before[arms])) return(character())
  parts <- sprintf("%s of %s %s", count_text(size[arms]), count_text(before[arms]), arms)
  sprintf("the %s units that found a partner", and_list(parts))
}
