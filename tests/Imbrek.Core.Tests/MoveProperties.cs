using CsCheck;
using Imbrek.Core.Moves;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>What a move comes to, against the definition read plainly and in exact figures.</summary>
public class MoveProperties
{
    private static readonly Gen<MoveQuestion> Questions = Gen.Int[0, int.MaxValue - 1].Select(seed =>
    {
        var r = new Random(seed);
        double Of(double most) => r.Next(6) == 0 ? 0 : most * Math.Pow(10, -4 * r.NextDouble());
        return new MoveQuestion(1 + Of(4e12), Of(3e8), 1 + Of(5e8), Of(900), Of(7200), Of(600), Of(3600), r.Next(3) == 0 ? 1 + Of(1e9) : null, r.Next(4) == 0 ? r.Next(0, 4) : MoveQuestion.UsualMost);
    });

    /// <summary>The definition, word by word.</summary>
    private static (List<(double Data, double Seconds)> Rounds, double Last, double Downtime) Plain(MoveQuestion q)
    {
        double Seconds(double data) => Math.Max(data / q.Rate, q.Read is null ? 0 : q.Size / q.Read.Value) + q.Round;
        double Changed(double seconds)
        {
            // The sum of the exponential's series where the difference from 1 would lose its figures.
            var x = q.Change * seconds / q.Size;
            if (x > 0.5)
            {
                return q.Size * (1 - Math.Exp(-x));
            }

            var (sum, term) = (0.0, -1.0);
            for (var n = 1; n < 40; n++)
            {
                term *= -x / n;
                sum += term;
            }

            return q.Size * sum;
        }

        var rounds = new List<(double Data, double Seconds)> { (q.Size, Seconds(q.Size)) };
        while (true)
        {
            var data = Changed(rounds[^1].Seconds);
            var downtime = Seconds(data) + q.Metadata + q.Check;
            var shorter = rounds.Count == 1 || (rounds[^2].Seconds - rounds[^1].Seconds) / rounds[^2].Seconds > 0.01;
            if (downtime <= q.Window || !shorter || rounds.Count - 1 == q.Most)
            {
                return (rounds, Seconds(data), downtime);
            }

            rounds.Add((data, Seconds(data)));
        }
    }

    private static void Near(double expected, double actual) => Assert.True(Math.Abs(expected - actual) <= 1e-9 * Math.Max(1, Math.Abs(expected)), $"{expected}, not {actual}");

    [Fact]
    public void It_comes_to_what_the_definition_says() => Questions.Sample(q =>
    {
        var (plain, forecast) = (Plain(q), MoveForecast.Of(q));
        Assert.Equal(plain.Rounds.Count, forecast.Rounds.Count);
        foreach (var (expected, round) in plain.Rounds.Zip(forecast.Rounds))
        {
            Near(expected.Data, round.Data);
            Near(expected.Seconds, round.Seconds);
        }

        Near(plain.Last, forecast.Last.Seconds);
        Near(plain.Downtime, forecast.DowntimeSeconds);
        Assert.Equal(plain.Downtime <= q.Window, forecast.Fits);
        Near(plain.Rounds.Sum(r => r.Seconds) + plain.Downtime, forecast.TotalSeconds);
    });

    [Fact]
    public void A_faster_rate_makes_no_round_longer_and_no_round_copies_more_than_there_is() => Gen.Select(Questions, Gen.Double[1, 20]).Sample((q, faster) =>
    {
        var (slow, fast) = (MoveForecast.Of(q), MoveForecast.Of(q with { Rate = q.Rate * faster }));
        Assert.All(slow.Rounds.Zip(fast.Rounds), p => Assert.True(p.Second.Seconds <= p.First.Seconds * (1 + 1e-12) && p.Second.Data <= p.First.Data * (1 + 1e-12)));
        Assert.All(fast.Rounds.Append(fast.Last), r => Assert.InRange(r.Data, 0, q.Size));
    });

    [Fact]
    public void What_would_make_it_fit_does() => Questions.Sample(q =>
    {
        var remedy = MoveForecast.RemedyOf(q);
        Assert.Equal(MoveForecast.Of(q).Fits, remedy is null);
        if (remedy is not null)
        {
            Assert.True(MoveForecast.Of(q with { Window = remedy.Window }).Fits);
            Assert.True(remedy.Rate is not { } rate || MoveForecast.Of(q with { Rate = rate }).Fits);
            Assert.True(remedy.Change is not { } change || MoveForecast.Of(q with { Change = change }).Fits);
        }
    });
}
