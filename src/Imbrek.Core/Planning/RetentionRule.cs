using NodaTime;

namespace Imbrek.Core.Planning;

/// <summary>What of one kind is kept in one place: whatever any of its parts keeps.</summary>
/// <param name="KeepFor">All that became available less than this ago; null keeps nothing by age.</param>
/// <param name="Newest">The newest so many; 0 for none.</param>
/// <param name="Daily">One for each of the newest so many days that have one.</param>
/// <param name="Weekly">One for each of the newest so many weeks, from Monday.</param>
/// <param name="Monthly">One for each of the newest so many months.</param>
/// <param name="Yearly">One for each of the newest so many years.</param>
/// <param name="Continuous">All that is needed to go back to any instant of this long; null for none.</param>
/// <param name="LastOfPeriod">Which set counts for a day, week, month or year: its last (true) or its first.</param>
public sealed record RetentionRule(
    Duration? KeepFor = null, int Newest = 0, int Daily = 0, int Weekly = 0, int Monthly = 0, int Yearly = 0, Duration? Continuous = null, bool LastOfPeriod = true)
{
    /// <summary>Keeps by age alone.</summary>
    public static RetentionRule For(Duration age) => new(KeepFor: age);

    /// <summary>Whether it keeps nothing by itself.</summary>
    public bool IsEmpty => KeepFor is null && Continuous is null && Newest + Daily + Weekly + Monthly + Yearly == 0;

    /// <summary>The longest that it keeps a set, as far as that can be told from the rule alone; null when it depends on how many there are.</summary>
    public Duration? Reach
    {
        get
        {
            var reach = Duration.Zero;
            foreach (var part in (Duration?[])[KeepFor, Continuous, Days(Daily, 1), Days(Weekly, 7), Days(Monthly, 30), Days(Yearly, 365)])
            {
                reach = part is { } p ? Duration.Max(reach, p) : reach;
            }

            return reach == Duration.Zero ? null : reach;

            static Duration? Days(int number, int each) => number == 0 ? null : Duration.FromDays(number * each);
        }
    }
}
