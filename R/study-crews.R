#' Fishing crews, some of which joined a cold store
#'
#' A made-up world: `r nrow(carefultwin::crews)` fishing crews in 60 small harbours, some of which join their harbour's
#' cold-store co-operative. Poorer crews with shorter boats join more often, so the raw comparison of incomes has the
#' wrong sign; long boats in large ports hardly ever join, so overlap is poor in that corner. Some ages, distances and
#' gears are missing at random. Simulated by `data-raw/crews.R`; the true effects are in [crews_truth].
#'
#' @format A data frame with one row per crew:
#' \describe{
#'   \item{crew_id}{identifier}
#'   \item{harbour}{harbour, the cluster: 60 of them}
#'   \item{coast}{survey stratum: four coasts of 15 harbours}
#'   \item{survey_weight}{how many crews this one stands for}
#'   \item{joined}{treatment: TRUE when the crew joined the cold store}
#'   \item{boat_length}{length of the boat, metres}
#'   \item{crew_size}{people on board}
#'   \item{skipper_age}{age of the skipper, years; about 6 per cent missing}
#'   \item{port_size}{"small", "medium" or "large"}
#'   \item{gear}{main gear: "nets", "lines", "pots" or "dredge"; about 2 per cent missing}
#'   \item{in_debt}{TRUE when the crew owes money on its boat}
#'   \item{past_income}{income per trip in the season before, shells}
#'   \item{market_km}{distance to the nearest market, kilometres; about 3 per cent missing}
#'   \item{income}{outcome: income per trip this season, shells}
#'   \item{sold_direct}{outcome: "yes" when the crew sold a catch directly to buyers inland}
#'   \item{days_at_sea}{outcome: days at sea in the season, a count}
#'   \item{months_afloat}{months until the crew gave up fishing, or 60 when the study ended first}
#'   \item{left}{TRUE when the crew gave up within those months}
#' }
#' @section True effects: averages of each crew's own expected effect over the crews in the data; `weighted` says
#'   whether crews count by `survey_weight`.
#'   ```{r, echo = FALSE, comment = ""}
#'   print(carefultwin::crews_truth, row.names = FALSE)
#'   ```
#' @family data
#' @examples
#' table(crews$port_size, crews$joined)
"crews"

#' True effects in the crews data
#'
#' @format A data frame with one row per outcome, estimand and weighting: `outcome`, `estimand` (ATE, ATT, ATC),
#'   `weighted` (averaged with `survey_weight`?) and `truth`, the mean of the crews' own expected differences, joined
#'   minus not, on the outcome's scale.
#' @family data
#' @examples
#' subset(crews_truth, outcome == "income")
"crews_truth"
