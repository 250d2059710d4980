using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Imbrek.Data.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(ImbrekContext))]
    [Migration("20261127063922_ReplicaWatchers")]
    public class ReplicaWatchers : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "watched_from",
                table: "replica_notes",
                type: "text",
                nullable: true);

            migrationBuilder.AddColumn<bool>(
                name: "took_over",
                table: "proofs",
                type: "boolean",
                nullable: false,
                defaultValue: false);
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropColumn(
                name: "watched_from",
                table: "replica_notes");

            migrationBuilder.DropColumn(
                name: "took_over",
                table: "proofs");
        }
    }
}
