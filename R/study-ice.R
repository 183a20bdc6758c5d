#' Crews that buy ice, some more than others
#'
#' A made-up world of doses: 1,500 crews, each with the tonnes of ice that it bought for a season. Bigger boats in
#' larger ports buy more, and earn more anyway. Ice matters most far from the market, and beyond some tonnes it helps no
#' more. Simulated by `data-raw/ice.R`; the true means are in [ice_truth].
#'
#' @format A data frame with one row per crew:
#' \describe{
#'   \item{crew_id}{identifier}
#'   \item{harbour}{harbour, the cluster: 50 of them}
#'   \item{tonnes}{the dose: ice bought for the season, tonnes}
#'   \item{boat_length}{length of the boat, metres}
#'   \item{crew_size}{people on board}
#'   \item{port_size}{"small", "medium" or "large"}
#'   \item{past_income}{income per trip in the season before, shells}
#'   \item{market_km}{distance to the nearest market, kilometres; 3 per cent missing}
#'   \item{income}{outcome: income per trip, shells}
#'   \item{spoiled}{outcome: "yes" when a catch spoiled}
#' }
#' @family data
#' @examples
#' cor(ice$tonnes, ice$boat_length)
"ice"

#' True means in the ice data
#'
#' @format A data frame: `outcome`, `tonnes` and `mean`, the mean over the crews in the data of what each would expect
#'   were it given so many tonnes.
#' @family data
#' @examples
#' ice_truth
"ice_truth"
