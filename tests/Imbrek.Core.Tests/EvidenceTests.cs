using System.Security.Cryptography;
using System.Text.Json.Nodes;
using CsCheck;
using Imbrek.Core.Evidence;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>The ledger: what is written is read back, and whoever changes anything is found.</summary>
public class EvidenceTests
{
    private static readonly Instant Morning = Instant.FromUtc(2026, 3, 2, 6, 0);

    internal static IReadOnlyList<LedgerEntry> Ledger(int length, Func<int, string>? body = null)
    {
        var entries = new List<LedgerEntry>();
        for (var i = 1; i <= length; i++)
        {
            entries.Add(LedgerEntry.After(
                i == 1 ? LedgerEntry.Genesis : entries[^1].Hash, i, Morning + Duration.FromMinutes(i), i % 2 == 0 ? "night shift" : "Åse", "restore", i % 3 == 0 ? "" : $"d{i}", body?.Invoke(i) ?? $"{{\"step\":{i}}}"));
        }

        return entries;
    }

    [Fact]
    public void What_is_written_is_read_back_to_the_letter()
    {
        Gen.String[0, 40].Sample(text =>
        {
            var body = new JsonObject { ["text"] = string.Concat(text.Where(c => !char.IsSurrogate(c))), ["n"] = 1.50 }.ToJsonString();
            var entries = Ledger(3, _ => body);
            var read = entries.Select(LedgerFile.WriteLine).Select(l => LedgerFile.ReadLine(l).Entry!).ToArray();
            Assert.Equal(entries, read);
            Assert.Null(LedgerFile.WhatIsWrong(read));
        });
    }

    [Fact]
    public void Who_writes_in_finer_time_than_is_kept_gets_what_is_kept_hashed()
    {
        var fine = LedgerEntry.After(LedgerEntry.Genesis, 1, Morning + Duration.FromNanoseconds(1_234_567), "a", "restore", "d", "{}");
        Assert.Null(LedgerFile.WhatIsWrong([LedgerFile.ReadLine(LedgerFile.WriteLine(fine)).Entry!]));
    }

    [Fact]
    public void Any_change_to_any_entry_is_found_and_named()
    {
        Func<LedgerEntry, LedgerEntry>[] changes =
        [
            e => e with { At = e.At + Duration.FromMilliseconds(1) },
            e => e with { Who = e.Who + " " },
            e => e with { Kind = "import" },
            e => e with { Database = e.Database + "x" },
            e => e with { Body = e.Body.Replace("step", "Step", StringComparison.Ordinal) },
            e => e with { Hash = LedgerEntry.Genesis },

            // Letters moved from one member to the next: each is hashed with its length.
            e => e with { Who = e.Who + e.Kind[..1], Kind = e.Kind[1..] },
        ];
        var ledger = Ledger(6);
        foreach (var change in changes)
        {
            for (var i = 0; i < ledger.Count; i++)
            {
                LedgerEntry[] changed = [.. ledger];
                changed[i] = change(ledger[i]);
                Assert.Contains($"entry {i + 1} was changed", LedgerFile.WhatIsWrong(changed), StringComparison.Ordinal);

                // Hashed anew it does not fit the next one, unless it is the last.
                changed[i] = changed[i] with { Hash = changed[i].ComputeHash() };
                Assert.Equal(i + 1 < ledger.Count && changed[i] != ledger[i], LedgerFile.WhatIsWrong(changed)?.Contains($"entry {i + 2} is not chained", StringComparison.Ordinal) ?? false);
            }
        }
    }

    [Fact]
    public void What_is_left_out_put_twice_or_in_another_order_is_found()
    {
        var ledger = Ledger(5);
        for (var i = 0; i < ledger.Count - 1; i++)
        {
            Assert.Contains($"entry {i + 1} is missing", LedgerFile.WhatIsWrong([.. ledger.Take(i), .. ledger.Skip(i + 1)]), StringComparison.Ordinal);
            Assert.Contains($"entry {i + 2} is missing", LedgerFile.WhatIsWrong([.. ledger.Take(i + 1), ledger[i], .. ledger.Skip(i + 1)]), StringComparison.Ordinal);
            Assert.NotNull(LedgerFile.WhatIsWrong([.. ledger.Take(i), ledger[i + 1], ledger[i], .. ledger.Skip(i + 2)]));
        }

        // Numbered anew, so that nothing seems to be missing, it is not chained.
        Assert.Contains("entry 2 is not chained", LedgerFile.WhatIsWrong([ledger[0], ledger[2] with { Number = 2 }]), StringComparison.Ordinal);
        Assert.Null(LedgerFile.WhatIsWrong([]));
    }

    [Fact]
    public void A_line_that_is_no_entry_is_refused_whatever_is_wrong_with_it()
    {
        var good = LedgerFile.WriteLine(Ledger(1)[0]);
        foreach (var member in JsonNode.Parse(good)!.AsObject().Select(m => m.Key).Where(k => k != "body"))
        {
            foreach (var wrong in (JsonNode?[])[null, new JsonObject(), new JsonArray(1), JsonValue.Create(1.5), JsonValue.Create(true)])
            {
                var line = JsonNode.Parse(good)!.AsObject();
                line[member] = wrong?.DeepClone();
                Assert.Contains(member, Assert.Throws<FormatException>(() => LedgerFile.ReadLine(line.ToJsonString())).Message, StringComparison.Ordinal);
            }

            var without = JsonNode.Parse(good)!.AsObject();
            without.Remove(member);
            Assert.Contains(member, Assert.Throws<FormatException>(() => LedgerFile.ReadLine(without.ToJsonString())).Message, StringComparison.Ordinal);
        }

        for (var length = 0; length < good.Length; length++)
        {
            Assert.Throws<FormatException>(() => LedgerFile.ReadLine(good[..length]));
        }

        foreach (var hostile in (string[])[good.Replace("{\"step\":1}", "{},\"body\":{\"step\":1}", StringComparison.Ordinal), good[..^1] + ",\"note\":1}", good.Replace("\u00c5se", "\\ud800", StringComparison.Ordinal).Replace("\\u00C5se", "\\ud800", StringComparison.Ordinal)])
        {
            Assert.NotEqual(good, hostile);
            Assert.Throws<FormatException>(() => LedgerFile.ReadLine(hostile));
        }

        Assert.Throws<FormatException>(() => LedgerFile.ReadLine("[]"));
        Assert.Throws<FormatException>(() => LedgerFile.ReadLine("null"));
    }

    /// <summary>Reads lines as <c>verify-ledger</c> does and says what is wrong.</summary>
    private static string? Wrong(IEnumerable<string> lines, ECDsa? key, string? head)
    {
        var check = new LedgerCheck(key, head);
        foreach (var line in lines)
        {
            check.AddLine(line);
        }

        return check.WhatIsWrong(needsHead: true);
    }

    [Fact]
    public void What_was_cut_or_written_anew_is_found_by_the_key_or_by_a_head_from_elsewhere()
    {
        using var key = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        using var other = ECDsa.Create(ECCurve.NamedCurves.nistP256);
        var ledger = Ledger(6);
        string[] Export(IReadOnlyList<LedgerEntry> entries, ECDsa by) =>
            [.. entries.Select(LedgerFile.WriteLine), LedgerFile.WriteLine(LedgerHead.Sign(entries.Count, entries.Count == 0 ? LedgerEntry.Genesis : entries[^1].Hash, Morning, by))];

        var whole = Export(ledger, key);
        Assert.Null(Wrong(whole, key, ledger[^1].Hash));
        Assert.Null(Wrong(whole, key, ledger[2].Hash));
        Assert.Null(Wrong(whole, null, null));
        Assert.Null(Wrong(whole[..^1], null, ledger[^1].Hash));
        Assert.Null(Wrong(Export([], key), key, null));

        // A chain made again by somebody who changed one entry: every hash is right.
        var anew = Ledger(6, i => i == 3 ? "{\"step\":33}" : $"{{\"step\":{i}}}");
        string[][] forged =
        [
            whole[..^1],
            whole[..4],
            [.. whole[..4], whole[^1]],
            [.. whole[2..]],
            [],
            [whole[^1]],
            Export(anew, other),
            [.. anew.Select(LedgerFile.WriteLine), whole[^1]],
            [.. whole, whole[^1]],
            [.. whole[..^1], LedgerFile.WriteLine(LedgerHead.Sign(6, ledger[^1].Hash, Morning, key) with { Signature = "" })],
            [.. whole[..^1], LedgerFile.WriteLine(LedgerHead.Sign(6, ledger[^1].Hash, Morning, key) with { At = Morning + Duration.FromDays(1) })],
        ];
        Assert.All(forged, f => Assert.NotNull(Wrong(f, key, null)));

        // An older export is signed as well: only a head known from elsewhere tells that it is not the newest.
        var older = Export([.. ledger.Take(4)], key);
        Assert.Null(Wrong(older, key, null));
        Assert.NotNull(Wrong(older, key, ledger[^1].Hash));
        Assert.NotNull(Wrong(Export(anew, other), null, ledger[^1].Hash));
    }
}
