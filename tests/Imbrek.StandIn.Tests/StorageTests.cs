using Imbrek.Core.Timetable;
using Imbrek.StandIn.Engine;
using Imbrek.StandIn.Storage;
using Xunit;

namespace Imbrek.StandIn.Tests;

/// <summary>Bytes in stores: what was written is what is read, whatever a crash cut off.</summary>
public sealed class StorageTests : IDisposable
{
    private readonly string folder = Directory.CreateTempSubdirectory("imbrek-store").FullName;

    public void Dispose() => Directory.Delete(folder, recursive: true);

    private static byte[] Bytes(int seed, int length) => [.. Enumerable.Range(0, length).Select(i => (byte)Draw.Bits((ulong)seed, i))];

    [Fact]
    public void Encrypted_bytes_open_with_their_key_as_their_set_and_in_no_other_way()
    {
        foreach (var length in (int[])[0, 1, 500])
        {
            var sealedBytes = SetEncryption.Encrypt(Bytes(1, length), 7, "key", "d/a");
            Assert.Equal(Bytes(1, length), SetEncryption.Decrypt(sealedBytes, 7, "key", "d/a"));
            Assert.Throws<InvalidDataException>(() => SetEncryption.Decrypt(sealedBytes, 7, "old key", "d/a"));
            Assert.Throws<InvalidDataException>(() => SetEncryption.Decrypt(sealedBytes, 7, "key", "d/b"));
            Assert.Throws<InvalidDataException>(() => SetEncryption.Decrypt(sealedBytes[..^1], 7, "key", "d/a"));
            sealedBytes[length / 2] ^= 1;
            Assert.Throws<InvalidDataException>(() => SetEncryption.Decrypt(sealedBytes, 7, "key", "d/a"));
        }

        Assert.Throws<InvalidDataException>(() => SetEncryption.Decrypt([], 7, "key", "d/a"));
    }

    [Fact]
    public void A_copy_is_read_back_before_and_after_it_is_on_disk()
    {
        using var store = new PackStore(folder);
        store.Write("d/a", Bytes(1, 500));
        Assert.Equal(Bytes(1, 500), store.Read("d/a"));
        store.Flush();
        store.Write("d/b", Bytes(2, 300));
        Assert.Equal(Bytes(1, 500), store.Read("d/a"));
        Assert.Equal(Bytes(2, 300), store.Read("d/b"));
        Assert.Equal(800, store.Length);
    }

    [Fact]
    public void A_store_opened_again_has_what_was_flushed_and_not_what_was_removed()
    {
        using (var store = new PackStore(folder))
        {
            store.Write("d/a", Bytes(1, 500));
            store.Write("d/b", Bytes(2, 300));
            store.Remove("d/a");
        }

        using var again = new PackStore(folder);
        Assert.False(again.Has("d/a"));
        Assert.Throws<FileNotFoundException>(() => again.Read("d/a"));
        Assert.Equal(Bytes(2, 300), again.Read("d/b"));
    }

    [Fact]
    public void Wherever_the_index_is_cut_off_what_stands_before_is_kept_and_writing_goes_on()
    {
        using (var store = new PackStore(folder))
        {
            store.Write("d/a", Bytes(1, 50));
            store.Write("d/b", Bytes(2, 60));
        }

        var index = Path.Combine(folder, "copies.index");
        var whole = File.ReadAllBytes(index);
        for (var cut = whole.Length - 1; cut > whole.Length / 2; cut--)
        {
            File.WriteAllBytes(index, whole[..cut]);
            using (var store = new PackStore(folder))
            {
                Assert.Equal(Bytes(1, 50), store.Read("d/a"));
                Assert.False(store.Has("d/b"));
                store.Write("d/c", Bytes(3, 70));
            }

            using var again = new PackStore(folder);
            Assert.Equal(Bytes(3, 70), again.Read("d/c"));
            Assert.Equal(Bytes(1, 50), again.Read("d/a"));
        }
    }

    [Fact]
    public void An_index_that_tells_mostly_of_copies_that_are_gone_is_written_anew_without_them()
    {
        var index = Path.Combine(folder, "copies.index");
        using (var store = new PackStore(folder))
        {
            for (var i = 0; i < 10_000; i++)
            {
                store.Write($"d/{i}", Bytes(i, 10));
            }

            for (var i = 0; i < 9_990; i++)
            {
                store.Remove($"d/{i}");
            }
        }

        var before = new FileInfo(index).Length;
        using (var store = new PackStore(folder))
        {
            Assert.InRange(new FileInfo(index).Length, 1, before / 1000);
            store.Write("d/new", Bytes(7, 20));
        }

        using var again = new PackStore(folder);
        Assert.Equal(Bytes(7, 20), again.Read("d/new"));
        Assert.All(Enumerable.Range(9_990, 10), i => Assert.Equal(Bytes(i, 10), again.Read($"d/{i}")));
        Assert.DoesNotContain(Enumerable.Range(0, 9_990), i => again.Has($"d/{i}"));
    }

    [Fact]
    public void A_flipped_bit_is_found_by_reading()
    {
        using var store = new PackStore(folder);
        store.Write("d/a", Bytes(1, 500));
        store.Damage("d/a");
        Assert.Throws<InvalidDataException>(() => store.Read("d/a"));
    }

    [Fact]
    public void Full_differential_and_log_rebuild_the_live_image()
    {
        var stream = new TransactionStream(7, 40, 30, 0, [new NamedChange("mark", 3_600_000, 0)], []);
        var live = new PageImage(40);
        void Until(long time)
        {
            foreach (var t in stream.Until(time))
            {
                live.Apply(t);
            }
        }

        Until(8 * 3_600_000);
        var full = SetContent.OfPages(live, long.MinValue);
        var at = live.Position;
        Until(8 * 3_600_000 + 120_000);
        var differential = SetContent.OfPages(live, at);
        Assert.True(differential.Length < full.Length);
        List<Transaction> log = [.. stream.Until(9 * 3_600_000)];
        log.ForEach(live.Apply);

        var restored = SetContent.RestorePages(differential, SetContent.RestorePages(full, null));
        SetContent.ApplyLog(SetContent.OfLog(log), restored, long.MaxValue);
        Assert.Equal(live.Digest(), restored.Digest());
        Assert.Equal(["mark"], restored.Markers.Select(m => m.Name));
        Assert.Throws<InvalidDataException>(() => SetContent.RestorePages(differential, null));
        Assert.Throws<InvalidDataException>(() => SetContent.RestorePages(differential, new PageImage(40)));
    }

    [Fact]
    public void A_log_is_stopped_at_the_instant_and_applied_twice_changes_nothing()
    {
        List<Transaction> log = [.. new TransactionStream(7, 40, 60, 0, [], []).Until(9 * 3_600_000)];
        var stop = log[log.Count / 2].Time;
        var image = new PageImage(40);
        SetContent.ApplyLog(SetContent.OfLog(log), image, stop);
        Assert.Equal(stop, image.Time);
        var digest = image.Digest();
        SetContent.ApplyLog(SetContent.OfLog(log), image, stop);
        Assert.Equal(digest, image.Digest());
    }
}
