namespace Imbrek.Core.Runs;

/// <summary>How long after a failed attempt the next one is made (section 9): the first pause, doubled for each further attempt.</summary>
public static class Retry
{
    private const int MostDoublings = 20;

    /// <summary>Seconds until the next attempt.</summary>
    /// <param name="firstSeconds">Seconds before the second attempt.</param>
    /// <param name="failed">Attempts that have failed, at least 1.</param>
    public static double PauseSeconds(double firstSeconds, int failed) => firstSeconds * (1 << Math.Min(failed - 1, MostDoublings));
}
