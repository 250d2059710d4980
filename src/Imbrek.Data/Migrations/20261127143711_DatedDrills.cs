using System;
using Microsoft.EntityFrameworkCore.Infrastructure;
using Microsoft.EntityFrameworkCore.Migrations;
using NodaTime;

#nullable disable

namespace Imbrek.Data.Migrations
{
    /// <inheritdoc />
    [DbContext(typeof(ImbrekContext))]
    [Migration("20261127143711_DatedDrills")]
    public class DatedDrills : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.AddColumn<string>(
                name: "why",
                table: "run_decisions",
                type: "text",
                nullable: true);

            migrationBuilder.CreateTable(
                name: "dated_drills",
                columns: table => new
                {
                    id = table.Column<Guid>(type: "uuid", nullable: false),
                    of = table.Column<string>(type: "text", nullable: false),
                    target = table.Column<string>(type: "text", nullable: false),
                    title = table.Column<string>(type: "text", nullable: false),
                    database = table.Column<string>(type: "text", nullable: false),
                    replica = table.Column<string>(type: "text", nullable: true),
                    kind = table.Column<string>(type: "text", nullable: false),
                    ending = table.Column<string>(type: "text", nullable: false),
                    at = table.Column<Instant>(type: "timestamp with time zone", nullable: false),
                    people = table.Column<string[]>(type: "text[]", nullable: false),
                    escalate = table.Column<string[]>(type: "text[]", nullable: false),
                    why = table.Column<string>(type: "text", nullable: true),
                    asked_by = table.Column<string>(type: "text", nullable: false),
                    asked_at = table.Column<Instant>(type: "timestamp with time zone", nullable: false),
                    called_off_by = table.Column<string>(type: "text", nullable: true),
                    run_id = table.Column<Guid>(type: "uuid", nullable: true),
                    told = table.Column<int>(type: "integer", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("pk_dated_drills", x => x.id);
                });

            migrationBuilder.CreateIndex(
                name: "ix_dated_drills_at",
                table: "dated_drills",
                column: "at");
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "dated_drills");

            migrationBuilder.DropColumn(
                name: "why",
                table: "run_decisions");
        }
    }
}
